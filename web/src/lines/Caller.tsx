import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post } from "../api/client";
import type { Calling, DeviceView } from "../api/types.gen";
import { count } from "../shared/numbers";
import { attempt, say } from "../shared/toast";
import { clock } from "../shared/ui";

/** Who asks a device that Ferry is, where the bench plays the far side: what stands on its screen, and its commands. */
export function Caller({ device }: { device: DeviceView }) {
  const client = useQueryClient();
  const key = ["caller", device.id];
  const { data: caller } = useQuery({
    queryKey: key,
    queryFn: () => get<Calling | null>(`/api/devices/${device.id}/caller`),
    refetchInterval: 1000,
  });
  const [words, setWords] = useState("");
  const [chosen, setChosen] = useState("");
  if (!caller) return null;
  const press = () =>
    attempt(async () => {
      client.setQueryData(key, await post<Calling>(`/api/devices/${device.id}/caller`, { on: !caller.on }));
    });
  const name = caller.commands.includes(chosen) ? chosen : (caller.commands[0] ?? "");
  const operate = (on: boolean) =>
    attempt(async () => {
      client.setQueryData(key, await post<Calling>(`/api/devices/${device.id}/command`, { name, on }));
      say(`The ${caller.who} switched ${name} ${on ? "on" : "off"}.`);
    });
  const shown = caller.shown
    .filter((v) => v.name.toLowerCase().includes(words.toLowerCase()))
    .sort((a, b) => a.name.localeCompare(b.name, undefined, { numeric: true }));
  const common = prefix(caller.shown.map((v) => v.name).concat(caller.commands));
  return (
    <section className="mt-4" aria-label="The bench asks it">
      <h3>A {caller.who} of the bench</h3>
      <button type="button" className="button mt-2" onClick={() => void press()}>
        {caller.on ? "Have it ask no more" : "Have it ask"}
      </button>
      {caller.on && (
        <>
          <p className="small mt-2">
            {caller.sentence ? (
              <>It has nothing: {caller.sentence}.</>
            ) : (
              <>
                It sees {count(caller.shown.length, "value")}
                {common && (
                  <>
                    {" "}
                    of <span className="mono">{common.slice(0, -1)}</span>
                  </>
                )}
                , and had {count(caller.reports, "report")}.
              </>
            )}
          </p>
          {caller.commands.length > 0 && !caller.sentence && (
            <div className="mt-2 flex items-center gap-2">
              <select
                className="input mono min-w-0 flex-1"
                aria-label="Command"
                value={name}
                onChange={(e) => setChosen(e.target.value)}
              >
                {caller.commands.map((c) => (
                  <option key={c} value={c}>
                    {c.slice(common.length)}
                  </option>
                ))}
              </select>
              <button type="button" className="button tight" onClick={() => void operate(true)}>
                Switch on
              </button>
              <button type="button" className="button tight" onClick={() => void operate(false)}>
                Switch off
              </button>
            </div>
          )}
          {caller.shown.length > 8 && (
            <input
              className="input mt-2"
              aria-label="Words of what it sees"
              placeholder="search what it sees"
              value={words}
              onChange={(e) => setWords(e.target.value)}
            />
          )}
          <ul className="small mt-2 max-h-[260px] overflow-auto" aria-label="What it sees">
            {shown.slice(0, 200).map((v) => (
              <li key={v.name} className="flex gap-2 py-[2px]" data-sees={v.name}>
                <span className="mono min-w-0 flex-1 truncate" title={v.name}>
                  {v.name.slice(common.length)}
                </span>
                <span className="mono">{v.value}</span>
                <span className="w-16 flex-none">{v.quality}</span>
                <span className="mono flex-none">{v.timeMs ? clock(v.timeMs) : ""}</span>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}

/** What all names begin with, up to a stroke; empty for nothing. */
function prefix(names: string[]): string {
  const first = names[0] ?? "";
  const head = first.slice(0, first.indexOf("/") + 1);
  return names.every((n) => n.startsWith(head)) ? head : "";
}
