import { useQuery } from "@tanstack/react-query";
import { get } from "../api/client";
import type { LinkView, PairState, Port, Redundancy, SiteView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { whole } from "../shared/numbers";
import { PointPick } from "../shared/PointPick";
import { usePointName } from "../shared/usePointName";
import { readSpan, spanText } from "../shared/spans";
import { clock, Field } from "../shared/ui";

/** The second address of a port, and when it takes the place of the first. */
export function SecondAddress({
  site,
  port,
  onBegin,
  onChange,
}: {
  site: SiteView;
  port: Port;
  onBegin: () => void;
  onChange: (patch: Partial<Port>) => Promise<unknown>;
}) {
  const pair = port.pair;
  const says = usePointName(site, pair?.says);
  const set = (patch: Partial<Redundancy>) => onChange({ pair: { host: "", ...pair, ...patch } });
  const seconds = (text: string) => Math.round(readSpan(text) / 1000);
  return (
    <>
      <Field
        label="Second address"
        mono
        value={pair?.host ?? ""}
        placeholder="none: it is there once"
        help="Of the same end, there twice and seen as one. Only one of the two is used at a time."
        onBegin={onBegin}
        onCommit={(text) => (text.trim() ? set({ host: text.trim() }) : onChange({ pair: undefined }))}
      />
      {pair && (
        <>
          <Field
            label="its port"
            mono
            value={String(pair.port || "")}
            placeholder="as the first"
            onBegin={onBegin}
            onCommit={(text) => set({ port: whole(text) })}
          />
          <Field
            label="is used after"
            unit="silent requests"
            mono
            value={String(pair.silent || "")}
            placeholder="2"
            help="Where no connection comes about, it is used at once."
            onBegin={onBegin}
            onCommit={(text) => set({ silent: whole(text) })}
          />
          <Field
            label="or while"
            value={pair.bad ? "bad" : ""}
            options={[
              { value: "", title: "nothing else" },
              { value: "bad", title: "no point of it is good" },
            ]}
            onBegin={onBegin}
            onCommit={(text) => set({ bad: text === "bad" || undefined })}
          />
          <PointPick
            label="or as says"
            name={says}
            none="no point"
            help="A point that is on while the second is to be used: it alone then decides."
            onBegin={onBegin}
            onPick={(id) => set({ says: id || undefined })}
          />
          <Field
            label="First is back"
            mono
            value={spanText((pair.backS ?? 0) * 1000)}
            placeholder="when the second fails"
            help="After it has been well again for so long."
            onBegin={onBegin}
            onCommit={(text) => set({ backS: seconds(text) })}
          />
          <Field
            label="Idle one tried"
            mono
            value={spanText((pair.tryS ?? 0) * 1000)}
            placeholder="every 10 s"
            onBegin={onBegin}
            onCommit={(text) => set({ tryS: seconds(text) })}
          />
          <Field
            label="For others at"
            mono
            value={pair.local ?? ""}
            placeholder="no local address"
            help="An address and port of this machine, such as 127.0.0.1:1502, at which other programs reach whichever is used."
            onBegin={onBegin}
            onCommit={(text) => set({ local: text.trim() || undefined })}
          />
        </>
      )}
    </>
  );
}

/** Which of two addresses a link uses now, how the other is, and every switch. */
export function PairNow({ site, link }: { site: SiteView; link: LinkView }) {
  const { data } = useQuery({
    queryKey: ["pairs"],
    queryFn: () => get<PairState[]>("/api/pairs"),
    refetchInterval: 1000,
  });
  const port = site.devices.find((d) => d.id === link.answering)?.ports.find((p) => p.line === link.line);
  const now = data?.find((p) => p.link === link.id);
  if (!port?.pair) return null;
  const hosts = [port.host ?? "", port.pair.host];
  return (
    <section className="mt-4" aria-label="Two addresses">
      <h3 className="mb-1">Two addresses, one used</h3>
      {!now && <p className="small soft">Neither is asked: the link does not run.</p>}
      {now && (
        <>
          <ul>
            {hosts.map((host, i) => {
              const used = now.used === i;
              return (
                <li key={i} className="flex items-center gap-2 py-[2px]" data-address={i} data-used={used}>
                  <Mark
                    kind={used ? "good" : now.provedMs === 0 ? "not-yet" : now.idleWell ? "stale" : "fault"}
                    size={15}
                    label={used ? "used" : "idle"}
                  />
                  <span className="mono">{host}</span>
                  <span className="small soft">
                    {used
                      ? "is used"
                      : now.provedMs === 0
                        ? "idle, not tried yet"
                        : `idle; at ${clock(now.provedMs)}: ${now.idle || "it does not answer"}`}
                  </span>
                </li>
              );
            })}
          </ul>
          {now.local && (
            <p className="small mt-1">
              Other programs reach it at <span className="mono">{now.local}</span>
              {now.clients > 0 && `: ${now.clients} connected`}. {now.localTrouble}
            </p>
          )}
          {now.switches.length > 0 && (
            <ul className="small mt-2" aria-label="Switches">
              {now.switches
                .slice(-8)
                .reverse()
                .map((s) => (
                  <li key={s.atMs} className="py-[2px]" data-switch>
                    <span className="mono">{clock(s.atMs)}</span> to the {s.to === now.dials[0] ? "first" : "second"}:{" "}
                    {s.why}
                    {s.staleMs >= 0 && (
                      <>
                        ; no value for <span className="mono">{s.staleMs} ms</span>
                      </>
                    )}
                  </li>
                ))}
            </ul>
          )}
        </>
      )}
    </section>
  );
}
