import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { memo, useMemo, useState } from "react";
import { newId, post, useEdit, useSite, type ObjectEdit } from "../api/client";
import { useLivePart } from "../api/live";
import { deviceOf, lineOf, linkOf, usualOn } from "../api/site";
import type { DeviceView, Route, SiteView } from "../api/types.gen";
import { useOffer } from "../shared/actions";
import { LongName } from "../shared/LongName";
import { SmallStops } from "../shared/RouteStops";
import { attempt, say } from "../shared/toast";
import { Empty } from "../shared/ui";
import { DevicePanel } from "./DevicePanel";
import { FacingPage } from "./FacingPage";
import { LinePanel } from "./LinePanel";
import { LinkPanel } from "./LinkPanel";
import { formatOf, formatWord, usual } from "./serial";
import { stationOf, stationWords } from "./settings";

/** The lines of the site, each with its devices on it, and the chosen object beside them. */
export function LinesPage() {
  const { data: site } = useSite();
  const params = useParams({ strict: false });
  const navigate = useNavigate();
  const edit = useEdit();
  const [trying, setTrying] = useState<{ done: number; of: number }>();
  const [wanted, setWanted] = useState("");
  const [show, setShow] = useState<Show>("all");
  useOffer(
    `lines ${site?.seq ?? 0}`,
    !site
      ? []
      : [
          { title: "Add an Ethernet line", run: () => void addLine("ethernet") },
          { title: "Add a serial line", run: () => void addLine("serial") },
          { title: "Build a gateway for meters", run: () => void navigate({ to: "/lines/gateway" }) },
          ...site.lines.map((l) => ({ title: `Add a device to ${l.name}`, run: () => void addDevice(l.id) })),
          ...(site.links.length ? [{ title: "Try every link", run: () => void tryAll() }] : []),
        ],
  );
  if (!site) return <p className="soft p-8">Reading the site…</p>;

  const addLine = (medium: "ethernet" | "serial") =>
    attempt(async () => {
      const id = newId();
      const serial = medium === "serial" ? { standard: "tia-485-2w", ...usual } : undefined;
      await edit("added a line", [
        {
          kind: "line",
          id,
          base: 0,
          after: {
            id,
            name: fresh(
              "Line",
              site.lines.map((l) => l.name),
            ),
            medium,
            serial,
          },
        },
      ]);
      await navigate({ to: "/lines/$kind/$id", params: { kind: "line", id } });
    });
  const addDevice = (line: string | undefined) =>
    attempt(async () => {
      const { id, edits } = newDevice(site, line);
      await edit("added a device", edits);
      await navigate({ to: "/lines/$kind/$id", params: { kind: "device", id } });
    });
  const tryAll = async () => {
    let stopped = 0;
    for (const [i, link] of site.links.entries()) {
      setTrying({ done: i, of: site.links.length });
      const route = await attempt(() => post<Route>(`/api/links/${link.id}/try`));
      if (!route || route.stopsAt) stopped++;
    }
    setTrying(undefined);
    say(
      stopped
        ? `${stopped} of ${site.links.length} links stop somewhere.`
        : `All ${site.links.length} links go through.`,
    );
  };

  const addTo = new Map(site.lines.map((l) => [l.id, () => void addDevice(l.id)]));
  const link = params.kind === "link" ? linkOf(site, params.id) : undefined;
  const device = params.kind === "device" ? deviceOf(site, params.id) : undefined;
  const line = params.kind === "line" ? lineOf(site, params.id) : undefined;
  const loose = site.devices.filter((d) => !d.ports.some((p) => site.lines.some((l) => l.id === p.line)));
  return (
    <>
      {link?.facing ? (
        <div className="min-w-0 flex-1 overflow-y-auto p-4">
          <FacingPage site={site} link={link} facing={link.facing} />
        </div>
      ) : (
        <div className="min-w-0 flex-1 overflow-y-auto p-4">
          {site.lines.length === 0 && (
            <Empty title="No line yet">
              A site begins with a line: one Ethernet segment or one serial bus, and the devices on it. Or bring in a
              site file from the menu at the top right.
            </Empty>
          )}
          {site.devices.length > 60 && (
            <div className="mb-3 flex flex-wrap items-center gap-2">
              <input
                className="input !w-[260px]"
                type="search"
                aria-label="Filter the devices"
                placeholder="name, address or unit"
                value={wanted}
                onChange={(e) => setWanted(e.target.value)}
              />
              {shows.map((s) => (
                <button
                  key={s.key}
                  type="button"
                  className={"button tight " + (show === s.key ? "main" : "")}
                  aria-pressed={show === s.key}
                  onClick={() => setShow(s.key)}
                >
                  {s.title}
                </button>
              ))}
              <span className="small soft">
                {site.lines.length} lines, {site.devices.length} devices
              </span>
            </div>
          )}
          {site.lines.map((l) => (
            <LineCard
              key={l.id}
              site={site}
              id={l.id}
              chosen={params.id}
              wanted={wanted}
              show={show}
              onAddDevice={addTo.get(l.id)}
            />
          ))}
          {loose.length > 0 && (
            <section className="card mb-4 p-4">
              <h3 className="mb-2">On no line</h3>
              <div className="flex flex-wrap gap-2">
                {loose.map((d) => (
                  <Link key={d.id} to="/lines/$kind/$id" params={{ kind: "device", id: d.id }} className="button">
                    {d.name}
                  </Link>
                ))}
              </div>
            </section>
          )}
          <div className={"flex gap-2 " + (site.lines.length === 0 ? "justify-center" : "")}>
            <button
              type="button"
              className={"button " + (site.lines.length === 0 ? "main" : "")}
              onClick={() => void addLine("ethernet")}
            >
              Add an Ethernet line
            </button>
            <button type="button" className="button" onClick={() => void addLine("serial")}>
              Add a serial line
            </button>
            {site.protocols.some((p) => p.makes) && (
              <Link to="/lines/gateway" className="button">
                Build a gateway for meters
              </Link>
            )}
            {site.links.length > 0 && (
              <button type="button" className="button main ml-auto" disabled={!!trying} onClick={() => void tryAll()}>
                {trying ? `Trying ${trying.done + 1} of ${trying.of}…` : "Try every link"}
              </button>
            )}
          </div>
        </div>
      )}
      {link && <LinkPanel key={link.id} site={site} link={link} />}
      {device && <DevicePanel key={device.id} site={site} device={device} />}
      {line && <LinePanel key={line.id} site={site} line={line} />}
      {params.id && !link && !device && !line && <aside className="panel">This object is no longer in the site.</aside>}
    </>
  );
}

type Show = "all" | "stops" | "runs";
const shows: { key: Show; title: string }[] = [
  { key: "all", title: "All" },
  { key: "stops", title: "Where the message stops" },
  { key: "runs", title: "Not running" },
];

/** How many devices of a line are shown before the rest is folded. */
const unfolded = 24;

/** A line as a rail with its devices hanging from it, the asking end dark and first; those of one kind together. */
function LineCard({
  site,
  id,
  chosen,
  wanted,
  show,
  onAddDevice,
}: {
  site: SiteView;
  id: string;
  chosen?: string;
  wanted: string;
  show: Show;
  onAddDevice?: () => void;
}) {
  const line = lineOf(site, id);
  const running = useLivePart((live) => live.state.running);
  const [open, setOpen] = useState(false);
  const view = useMemo(() => viewOf(site, id, running), [site, id, running]);
  const listed = useMemo(() => filtered(view.devices, wanted, show), [view, wanted, show]);
  if (!line) return null;
  const busiest = site.lineLoad.find((x) => x.line === id)?.utilisation ?? 0;
  const serial = line.medium === "serial";
  const about = serial
    ? [
        site.standards.find((s) => s.standard === line.serial?.standard)?.title,
        formatWord(formatOf(line)),
        ...view.spoken,
      ]
    : ["Ethernet", ...(line.network ? [line.network] : [])];
  const filtering = wanted !== "" || show !== "all";
  if (filtering && listed.length === 0) return null;
  // What is chosen, and what is wrong, is never folded away.
  const folded = !open && listed.length > unfolded + 6;
  const drawn = folded
    ? listed.filter((d, i) => i < unfolded || d.stops || d.device.id === chosen || d.link === chosen)
    : listed;
  return (
    <section className="card mb-4 p-4" aria-label={"Line " + line.name}>
      <div className="mb-3 flex items-baseline gap-3">
        <h2 className="max-w-[45%] flex-none truncate" title={line.name}>
          <Link to="/lines/$kind/$id" params={{ kind: "line", id }} className="hover:underline">
            {line.name}
          </Link>
        </h2>
        <span className="small soft min-w-0 truncate">
          {about.join(" · ")}
          {view.running ? ` · ${view.running} of ${view.links} links run` : ""}
          {view.stopping ? ` · ${view.stopping} ${view.stopping === 1 ? "stops" : "stop"} somewhere` : ""}
          {filtering ? ` · ${listed.length} of ${view.devices.length} devices` : ""}
        </span>
        <button
          type="button"
          className="small ml-auto whitespace-nowrap underline"
          onClick={onAddDevice}
          aria-label={`Add a device to ${line.name}`}
        >
          Add a device
        </button>
        <span className="small soft whitespace-nowrap">{serial ? "line time used" : "busiest connection"}</span>
        <span className="h-[8px] w-[110px] self-center rounded-full bg-band" aria-hidden>
          <span
            className="block h-full rounded-full"
            style={{
              width: `${Math.min(100, 100 * busiest)}%`,
              minWidth: busiest ? 4 : 0,
              background: busiest > 1 ? "var(--fault)" : busiest > 0.7 ? "var(--doubt)" : "var(--tide)",
            }}
          />
        </span>
        <b className="mono">{(100 * busiest).toFixed(busiest < 0.1 ? 1 : 0)}%</b>
      </div>
      <div
        className={"h-[4px] rounded " + (serial ? "" : "bg-ink")}
        style={
          serial
            ? { backgroundImage: "repeating-linear-gradient(90deg, var(--ink) 0 10px, transparent 10px 14px)" }
            : undefined
        }
        aria-hidden
      />
      <div className="grid gap-x-3 gap-y-2" style={{ gridTemplateColumns: "repeat(auto-fill, minmax(136px, 1fr))" }}>
        {drawn.map((d) => (
          <DeviceCard key={d.device.id} on={chosen === d.device.id || (!!d.link && chosen === d.link)} {...d} />
        ))}
        {view.devices.length === 0 && (
          <div className="soft col-span-full pt-3">
            Nothing is on this line yet.{" "}
            <button type="button" className="font-semibold underline" onClick={onAddDevice}>
              Add a device
            </button>
            , first the one that asks.
          </div>
        )}
      </div>
      {listed.length > unfolded + 6 && (
        <button type="button" className="button tight mt-3" aria-expanded={!folded} onClick={() => setOpen(!open)}>
          {folded ? `Show ${listed.length - drawn.length} more devices of ${line.name}` : `Fold ${line.name}`}
        </button>
      )}
    </section>
  );
}

/** A device on a line, as its card shows it. */
interface OnLine {
  device: DeviceView;
  place: string;
  asks: number;
  link?: string;
  route?: Route;
  stops: boolean;
  runs: boolean;
}

/** The devices of a line: who asks first, the others by kind, those of one kind as they stand in the site. */
function viewOf(site: SiteView, id: string, running: string[]) {
  const links = site.links.filter((l) => l.line === id);
  const asking = new Map<string, number>();
  for (const l of links) asking.set(l.asking, (asking.get(l.asking) ?? 0) + 1);
  const answering = new Map(links.map((l) => [l.answering, l.id]));
  const routes = new Map(site.routes.map((r) => [r.link, r]));
  const runs = new Set(running);
  const devices = site.devices
    .filter((d) => d.ports.some((p) => p.line === id))
    .map((device): OnLine => {
      const link = answering.get(device.id);
      const route = link ? routes.get(link) : undefined;
      return {
        device,
        place: placeOf(site, device, id),
        asks: asking.get(device.id) ?? 0,
        link,
        route,
        stops: !!route?.stopsAt,
        runs: !!link && runs.has(link),
      };
    });
  const kind = (d: OnLine) =>
    d.device.name
      .replace(/[\d.,:-].*$/, "")
      .trim()
      .toLowerCase();
  const first = new Map<string, number>();
  devices.forEach((d, i) => {
    if (!first.has(kind(d))) first.set(kind(d), i);
  });
  const ordered =
    devices.length > unfolded
      ? devices.toSorted(
          (a, b) => Number(b.asks > 0) - Number(a.asks > 0) || (first.get(kind(a)) ?? 0) - (first.get(kind(b)) ?? 0),
        )
      : devices.toSorted((a, b) => Number(b.asks > 0) - Number(a.asks > 0));
  return {
    devices: ordered,
    links: links.length,
    running: links.filter((l) => runs.has(l.id)).length,
    stopping: ordered.filter((d) => d.stops).length,
    spoken: [...new Set(links.map((l) => site.protocols.find((p) => p.name === l.protocol)?.title ?? l.protocol))],
  };
}

function filtered(devices: OnLine[], wanted: string, show: Show) {
  const words = wanted.toLowerCase().split(/\s+/).filter(Boolean);
  return devices.filter(
    (d) =>
      (show === "all" || (show === "stops" ? d.stops : !!d.link && !d.runs)) &&
      words.every((w) => `${d.device.name} ${d.place} ${d.device.model ?? ""}`.toLowerCase().includes(w)),
  );
}

const DeviceCard = memo(function DeviceCard({ device, place, asks, link, route, on }: OnLine & { on: boolean }) {
  const dark = asks > 0;
  return (
    <div>
      <div className="ml-4 h-[10px] w-[3px] bg-ink" aria-hidden />
      <Link
        to="/lines/$kind/$id"
        params={link && !dark ? { kind: "link", id: link } : { kind: "device", id: device.id }}
        className="block rounded-md border p-[8px_10px]"
        data-device={device.id}
        style={{
          background: dark ? "var(--bar)" : "var(--sheet)",
          color: dark ? "var(--bar-text)" : undefined,
          borderColor: "var(--rule)",
          boxShadow: on ? "0 0 0 3px var(--tide)" : undefined,
        }}
      >
        <b>
          <LongName name={device.name} />
        </b>
        <span className={"mono block truncate " + (dark ? "opacity-80" : "soft")}>{place}</span>
        <span className="small block h-[19px]">
          {dark ? (
            <span className="opacity-80">
              asks {asks} {asks === 1 ? "link" : "links"}
            </span>
          ) : route ? (
            <SmallStops route={route} />
          ) : (
            <span className="soft">{device.serving ? "Ferry answers" : "no link"}</span>
          )}
        </span>
      </Link>
    </div>
  );
});

/** A name that is not taken: "Line", "Line 2"… */
function fresh(word: string, taken: string[]): string {
  for (let n = taken.length + 1; ; n++) if (!taken.includes(`${word} ${n}`)) return `${word} ${n}`;
}

/** A new device on a line; where somebody asks there already, with a link from it. */
function newDevice(site: SiteView, line: string | undefined): { id: string; edits: ObjectEdit[] } {
  const id = newId();
  const on = lineOf(site, line);
  const asker =
    site.links.find((l) => l.line === line)?.asking ??
    site.devices.find((d) => d.ports.some((p) => p.line === line))?.id;
  // A line goes on in the protocol that it speaks.
  const protocol = site.links.find((l) => l.line === line)?.protocol ?? usualOn(site, on?.medium);
  const serial = on?.medium === "serial";
  const station = stationOf(site, protocol, undefined);
  const settings = serial && asker && station ? { [station.key]: freeStation(site, line) } : undefined;
  const port = { line, ...(serial ? {} : { host: freeHost(site, line) }), ...(asker ? { protocol, settings } : {}) };
  const edits: ObjectEdit[] = [
    {
      kind: "device",
      id,
      base: 0,
      after: {
        id,
        name: fresh(
          "Device",
          site.devices.map((d) => d.name),
        ),
        map: protocol,
        ports: line ? [port] : [],
        points: null,
      },
    },
  ];
  if (asker && line) {
    const link = newId();
    edits.push({
      kind: "link",
      id: link,
      base: 0,
      after: { id: link, asking: asker, answering: id, line, protocol, settings },
    });
  }
  return { id, edits };
}

/** The next address behind those in use on a line, so that only the exception is typed. */
function freeHost(site: SiteView, line: string | undefined): string {
  const network = lineOf(site, line)?.network ?? "";
  const base = /^(\d+\.\d+\.\d+)\.\d+\/2[4-9]$/.exec(network)?.[1];
  if (!base) return "";
  const taken = site.devices.flatMap((d) =>
    d.ports.filter((p) => p.line === line).map((p) => Number(p.host?.split(".")[3] ?? 0)),
  );
  const next = Math.max(9, ...taken) + 1;
  return next < 255 ? `${base}.${next}` : "";
}

/** The station number behind those in use on a serial line. */
function freeStation(site: SiteView, line: string | undefined): number {
  const stations = site.devices.flatMap((d) =>
    d.ports.filter((p) => p.line === line && p.protocol).map((p) => stationOf(site, p.protocol, p.settings)),
  );
  const most = stations.find((s) => s)?.most ?? 255;
  return Math.min(most, 1 + Math.max(0, ...stations.map((s) => s?.number ?? 0)));
}

/** Where a device is on a line: its address, its station, or the name of the port by which it asks. */
function placeOf(site: SiteView, device: DeviceView, line: string) {
  const port = device.ports.find((p) => p.line === line);
  if (lineOf(site, line)?.medium !== "serial") return port?.host || "no address";
  if (!port?.protocol) return port?.serial?.name || "its port";
  return stationWords(site, port);
}
