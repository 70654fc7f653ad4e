import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { get, post } from "../api/client";
import { nameOf, usualOn } from "../api/site";
import type { Found, Line, SiteView, Sweep, SweepOrder } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { stationOf, valueOf } from "./settings";

/** Starts a sweep and follows it until it ends. */
export function useSweep() {
  const [id, setId] = useState<string>();
  const { data } = useQuery({
    queryKey: ["sweep", id],
    queryFn: () => get<Sweep>(`/api/sweeps/${id}`),
    enabled: !!id,
    refetchInterval: (query) => (query.state.data?.running === false ? false : 250),
  });
  const start = (order: SweepOrder) => attempt(async () => setId((await post<Sweep>("/api/sweeps", order)).id));
  const stop = () => attempt(() => post(`/api/sweeps/${id}/stop`));
  return { sweep: data, start, stop };
}

/** How far a sweep is, with a way to stop it. */
export function SweepProgress({ sweep, onStop }: { sweep: Sweep; onStop: () => void }) {
  return (
    <div className="mt-2" role="status">
      {sweep.running ? (
        <>
          <div className="flex items-center gap-2">
            <span className="h-[8px] flex-1 rounded-full bg-band">
              <span
                className="block h-full rounded-full bg-tide"
                style={{ width: `${(100 * sweep.done) / sweep.of}%` }}
              />
            </span>
            <button type="button" className="button tight" onClick={onStop}>
              Stop
            </button>
          </div>
          <p className="small soft mt-1">
            {sweep.done} of {sweep.of} asked, {sweep.found.length} answered; about {Math.ceil(sweep.leftMs / 1000)}
            {"\u2009"}s more
          </p>
        </>
      ) : (
        <p className="mt-1" data-testid="sweep-sentence">
          {sweep.sentence}
        </p>
      )}
    </div>
  );
}

/** Who is there? Looks for stations or addresses on a line; what answers can be made devices. */
export function WhoIsThere({ site, line }: { site: SiteView; line: Line }) {
  const client = useQueryClient();
  const { sweep, start, stop } = useSweep();
  const serial = line.medium === "serial";
  const network = /^(\d+\.\d+\.\d+)\./.exec(line.network ?? "")?.[1];
  const spoken = site.protocols.filter((p) => !p.mapOnly && p.medium === line.medium);
  const [named, setNamed] = useState("");
  const usual = site.links.find((l) => l.line === line.id)?.protocol ?? usualOn(site, line.medium);
  const protocol = spoken.find((p) => p.name === (named || usual));
  const station = stationOf(site, protocol?.name, undefined);
  const usualPort = String(valueOf(protocol, undefined, "port"));
  const [range, setRange] = useState({
    fromStation: "1",
    toStation: "40",
    fromHost: network ? network + ".1" : "",
    toHost: network ? network + ".60" : "",
    port: "",
    station: "",
    fromCalled: "",
    toCalled: "",
  });
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const asking =
    site.links.find((l) => l.line === line.id)?.asking ??
    site.devices.find((d) => d.ports.some((p) => p.line === line.id && !p.protocol))?.id ??
    "";
  const input = (key: keyof typeof range, label: string, width: number, placeholder?: string) => (
    <label className="small soft flex items-center gap-1">
      {label}
      <input
        className="input mono"
        style={{ width }}
        aria-label={label}
        placeholder={placeholder}
        value={range[key]}
        onChange={(e) => setRange({ ...range, [key]: e.target.value })}
      />
    </label>
  );
  const go = () =>
    start(
      serial
        ? {
            kind: "stations",
            line: line.id,
            protocol: protocol?.name,
            fromStation: Number(range.fromStation),
            toStation: Number(range.toStation),
          }
        : {
            kind: "hosts",
            line: line.id,
            protocol: protocol?.name,
            fromHost: range.fromHost.trim(),
            toHost: range.toHost.trim(),
            port: Number(range.port || usualPort),
            station: station ? Number(range.station || station.number) : undefined,
          },
    );
  const key = (f: Found) => `${f.host ?? ""}/${f.station}/${f.identity}`;
  const take = (found: Found[]) =>
    attempt(async () => {
      await post(`/api/sweeps/${sweep?.id}/take`, { found, asking });
      await client.invalidateQueries({ queryKey: ["site"] });
      setChosen(new Set());
      say(
        `${found.length === 1 ? "One device is" : `${found.length} devices are`} now in the site. Ctrl Z takes it back.`,
      );
    });
  const name = (id: string) => nameOf(site, id);
  // What was taken since is in the plan now.
  const placed = (f: Found) =>
    f.device ||
    site.devices.find((d) =>
      d.ports.some(
        (p) =>
          p.line === line.id &&
          (serial
            ? !!p.protocol && stationOf(site, p.protocol, p.settings)?.number === f.station
            : p.host === f.host &&
              (!protocol?.calling || !station || stationOf(site, p.protocol, p.settings)?.number === f.station)),
      ),
    )?.id;
  const strangers = sweep?.found.filter((f) => !placed(f) && !f.odd) ?? [];
  return (
    <section className="mt-5" aria-label="Who is there">
      <h3 className="mb-1">Who is there?</h3>
      <p className="small soft mb-2">
        {serial
          ? "Asks one number after the other, gently: between two reads where the line runs."
          : `Asks the addresses that you state, and no others${protocol?.calling ? "; or all of the network at once" : ""}.`}
      </p>
      <div className="flex flex-wrap items-center gap-2">
        {serial ? (
          <>
            {input("fromStation", `${station?.title ?? "Number"}s from`, 56)}
            {input("toStation", "to", 56)}
          </>
        ) : (
          <>
            {input("fromHost", "From", 116)}
            {input("toHost", "to", 116)}
            {input("port", "port", 62, usualPort)}
            {station && input("station", station.word, 48, String(station.number))}
            {spoken.length > 1 && (
              <label className="small soft flex items-center gap-1">
                in
                <select
                  className="input !w-auto"
                  aria-label="Protocol to look for"
                  value={protocol?.name ?? ""}
                  onChange={(e) => setNamed(e.target.value)}
                >
                  {spoken.map((p) => (
                    <option key={p.name} value={p.name}>
                      {p.title}
                    </option>
                  ))}
                </select>
              </label>
            )}
          </>
        )}
        <button type="button" className="button" disabled={sweep?.running} onClick={() => void go()}>
          Look
        </button>
        {protocol?.calling && (
          <button
            type="button"
            className="button"
            disabled={sweep?.running}
            onClick={() =>
              void start({
                kind: "call",
                line: line.id,
                protocol: protocol.name,
                ...(station && range.toCalled.trim()
                  ? { fromStation: Number(range.fromCalled), toStation: Number(range.toCalled) }
                  : {}),
              })
            }
          >
            {protocol.calling}
          </button>
        )}
        {protocol?.calling && station && (
          <>
            {input("fromCalled", `${station.word}s from`, 82, "all")}
            {input("toCalled", "up to", 82)}
          </>
        )}
      </div>
      {sweep && <SweepProgress sweep={sweep} onStop={() => void stop()} />}
      {sweep && (sweep.found.length > 0 || sweep.missing.length > 0) && (
        <ul className="mt-2" aria-label="What answered">
          {sweep.found.map((f) => {
            const device = placed(f);
            return (
              <li key={key(f)} className="flex items-center gap-2 py-1">
                <Mark
                  kind={f.odd ? "doubt" : device ? "good" : "not-yet"}
                  size={15}
                  label={f.odd ? "odd" : device ? "in the plan" : "not in the plan"}
                />
                <b className="mono whitespace-nowrap">{f.host ?? `${station?.word ?? ""} ${f.station}`}</b>
                <span
                  className={"min-w-0 flex-1 " + (f.odd ? "" : "truncate")}
                  title={[f.identity, f.odd].filter(Boolean).join(": ")}
                >
                  {device ? (
                    <>
                      <Link to="/lines/$kind/$id" params={{ kind: "device", id: device }} className="underline">
                        {name(device)}
                      </Link>
                      {f.odd && <span className="small soft"> {f.odd}</span>}
                    </>
                  ) : (
                    <>
                      {f.identity || (!f.odd && "does not say who it is")}
                      {f.odd && <span className={f.identity ? "small soft" : ""}> {f.odd}</span>}
                    </>
                  )}
                </span>
                {!device && !f.odd && (
                  <label className="small soft flex items-center gap-1 whitespace-nowrap">
                    <input
                      type="checkbox"
                      checked={chosen.has(key(f))}
                      onChange={(e) => {
                        const next = new Set(chosen);
                        if (e.target.checked) next.add(key(f));
                        else next.delete(key(f));
                        setChosen(next);
                      }}
                    />
                    take
                  </label>
                )}
              </li>
            );
          })}
          {sweep.missing.map((id) => (
            <li key={id} className="flex items-center gap-2 py-1">
              <Mark kind="fault" size={15} label="missing" />
              <span>
                <Link to="/lines/$kind/$id" params={{ kind: "device", id }} className="underline">
                  {name(id)}
                </Link>{" "}
                <span className="soft">is in the plan and does not answer</span>
              </span>
            </li>
          ))}
        </ul>
      )}
      {strangers.length > 0 && !sweep?.running && (
        <button
          type="button"
          className="button mt-1"
          onClick={() => void take(chosen.size ? strangers.filter((f) => chosen.has(key(f))) : strangers)}
        >
          {chosen.size
            ? `Make ${chosen.size} of them devices`
            : strangers.length === 1
              ? "Make it a device of the site"
              : `Make all ${strangers.length} devices of the site`}
        </button>
      )}
    </section>
  );
}
