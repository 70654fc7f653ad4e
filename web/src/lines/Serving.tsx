import { useQuery } from "@tanstack/react-query";
import { get, post } from "../api/client";
import { useLiveState } from "../api/live";
import type { DeviceView, Serving as ServingOf, ServingState } from "../api/types.gen";
import { Caller } from "./Caller";
import { Given } from "../shared/Given";
import { whole } from "../shared/numbers";
import { attempt } from "../shared/toast";
import { clock, Field } from "../shared/ui";

/** Whether Ferry itself is the device, who may ask it, and who does. */
export function Serving({
  device,
  onBegin,
  onChange,
}: {
  device: DeviceView;
  onBegin: () => void;
  onChange: (what: string, patch: Partial<DeviceView>) => Promise<unknown>;
}) {
  const serving = device.serving;
  const set = (what: string, patch: Partial<ServingOf>) =>
    onChange(`${what} ${device.name}`, { serving: { ...serving, ...patch } });
  return (
    <section className="mt-4" aria-label="Who answers">
      <h3 className="mb-1">Who answers</h3>
      <Field
        label="It is"
        value={serving ? "ferry" : "device"}
        options={[
          { value: "device", title: "a device of its own" },
          { value: "ferry", title: "Ferry itself" },
        ]}
        onBegin={onBegin}
        onCommit={(text) =>
          onChange(
            text === "ferry" ? `let Ferry be ${device.name}` : `made ${device.name} a device of its own`,
            text === "ferry" ? { serving: {} } : { serving: undefined },
          )
        }
      />
      {serving && (
        <>
          <Field
            label="Lets in"
            mono
            value={(serving.allow ?? []).join(", ")}
            placeholder="everybody"
            help="Addresses, or networks as 10.20.0.0/24. A client that any of them matches is let in."
            onBegin={onBegin}
            onCommit={(text) =>
              set("changed who is let in by", {
                allow: text
                  .split(/[\s,;]+/)
                  .map((line) => line.trim())
                  .filter(Boolean),
              })
            }
          />
          <Field
            label="Clients at once"
            mono
            value={String(serving.mostClients || "")}
            placeholder="16"
            onBegin={onBegin}
            onCommit={(text) => set("changed how many clients may ask", { mostClients: whole(text) })}
          />
          <Field
            label="Clients may"
            value={serving.readOnly ? "read" : "write"}
            options={[
              { value: "write", title: "read, and write as its map says" },
              { value: "read", title: "only read" },
            ]}
            onBegin={onBegin}
            onCommit={(text) => set("changed what clients may do to", { readOnly: text === "read" })}
          />
          <Clients device={device} />
          <Caller device={device} />
          <h3 className="mt-4">What they were given last</h3>
          <Given device={device.id} />
        </>
      )}
    </section>
  );
}

/** Where Ferry answers as the device, and who asks it there. */
function Clients({ device }: { device: DeviceView }) {
  const { state } = useLiveState();
  const on = state.serving.includes(device.id);
  const { data } = useQuery({
    queryKey: ["serving"],
    queryFn: () => get<ServingState[]>("/api/serving"),
    refetchInterval: 1000,
  });
  const now = data?.find((s) => s.device === device.id);
  const press = () => attempt(() => post(`/api/run/${on ? "stop" : "start"}`, { links: [device.id] }));
  return (
    <>
      {now?.sentence && <p className="notice mt-2">{now.sentence}</p>}
      {on && now && !now.sentence && (
        <p className="notice good mt-2">
          Ferry answers at <span className="mono">{now.listens.join(", ")}</span>.
        </p>
      )}
      {on && now?.rivals && (
        <p className="notice mt-2">
          Another says that it has the same number: <span className="mono">{now.rivals.join(", ")}</span>. Whoever asks
          all for {device.name} gets either: give one of them another.
        </p>
      )}
      {on && now && (
        <ul className="small mt-2" aria-label="Clients">
          {now.clients.length === 0 && <li className="soft">Nobody is connected.</li>}
          {now.clients.map((c) => (
            <li key={c.from} className="py-[2px]">
              <span className="mono">{c.from}</span>, asked {c.asked}×{c.refused > 0 && `, refused ${c.refused}×`}
              {c.wrote > 0 && `, wrote ${c.wrote}×`}
              {c.lastMs > 0 && (
                <>
                  , last at <span className="mono">{clock(c.lastMs)}</span>
                </>
              )}
            </li>
          ))}
          {now.away > 0 && (
            <li className="py-[2px]">
              {now.away} turned away, the last: {now.lastAway}.
            </li>
          )}
        </ul>
      )}
      <button type="button" className="button mt-2" onClick={() => void press()}>
        {on ? "Stop answering" : "Answer now"}
      </button>
    </>
  );
}
