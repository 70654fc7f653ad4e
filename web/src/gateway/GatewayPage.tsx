import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useEffect, useState, type ReactNode } from "react";
import { post, problemOf, useSheets, useSite } from "../api/client";
import type { BuiltView, Design, Forecast, Problem, SiteView } from "../api/types.gen";
import { bauds, baudWord, readFormat } from "../lines/serial";
import { valueOf } from "../lines/settings";
import { count } from "../shared/numbers";
import { say } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";
import { blank, framings, gatewaysOf, keep, kept, onLine, readyLists } from "./design";
import { Chosen, Typed, TypedNumber } from "./fields";
import { ForecastView } from "./ForecastView";
import { Meters } from "./Meters";

/** A gateway in four answers: which line, which meters, given on as what, and who reads. */
export function GatewayPage() {
  const { data: site } = useSite();
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  return <GatewayOf key={site.name} site={site} />;
}

function GatewayOf({ site }: { site: SiteView }) {
  const navigate = useNavigate();
  const { data: sheets } = useSheets();
  const [design, setDesign] = useState<Design>(() => kept(site) ?? blank(site));
  const [settled, setSettled] = useState(design);
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const change = (next: Design) => {
    setDesign(next);
    keep(site, next);
    setProblem(undefined);
  };
  useEffect(() => {
    const timer = setTimeout(() => setSettled(design), 350);
    return () => clearTimeout(timer);
  }, [design]);
  const look = useQuery({
    queryKey: ["gateway", site.seq, settled],
    queryFn: () => post<Forecast>("/api/gateway/look", settled),
    enabled: settled.meters.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const build = async () => {
    setBusy(true);
    try {
      const built = await post<BuiltView>("/api/gateway/build", design);
      keep(site, undefined);
      say(`Done: ${built.what}.`);
      await navigate({ to: "/lines/$kind/$id", params: { kind: "device", id: built.devices[0] ?? "" } });
    } catch (error) {
      setProblem(problemOf(error));
    } finally {
      setBusy(false);
    }
  };
  const wrong = problem ?? (look.error ? problemOf(look.error) : undefined);
  // It stands above, and where the answers end: who fills them in by keys is there then.
  const builds = (
    <button
      type="button"
      className="button main"
      disabled={busy || design.meters.length === 0}
      onClick={() => void build()}
    >
      {busy ? "Building…" : design.as.device ? "Add to it" : "Build it"}
    </button>
  );
  return (
    <div className="flex min-w-0 flex-1 flex-col" data-testid="gateway">
      <div className="flex flex-none items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
        <h2 className="whitespace-nowrap">A gateway for meters</h2>
        <span className="small soft min-w-0 truncate">
          {design.meters.length
            ? `${count(design.meters.length, "meter")}, ${count(look.data?.built.objects.length ?? 0, "object")}`
            : "four answers, and it is built as one step"}
        </span>
        <span className="ml-auto flex gap-2">
          <button type="button" className="button" onClick={() => change(blank(site))}>
            Begin anew
          </button>
          <Link to="/lines" className="button">
            All lines
          </Link>
          {builds}
        </span>
      </div>
      <div className="flex min-h-0 flex-1">
        <div className="w-[520px] flex-none overflow-y-auto border-r border-rule p-4">
          <Answer n={1} title="Which line">
            <WhichLine site={site} design={design} onChange={change} />
          </Answer>
          <Answer n={2} title="Which meters">
            <Meters
              site={site}
              lists={readyLists(site, sheets)}
              columns={sheets?.columns ?? []}
              design={design}
              onChange={change}
            />
          </Answer>
          <Answer n={3} title="Given on as">
            <GivenOn site={site} design={design} onChange={change} />
          </Answer>
          <Answer n={4} title="Who reads">
            <WhoReads design={design} onChange={change} />
          </Answer>
          <div className="flex justify-end">{builds}</div>
        </div>
        <div className="min-w-0 flex-1 overflow-y-auto p-4">
          {wrong && <ProblemNotice problem={wrong} />}
          {look.data && design.meters.length > 0 ? (
            <ForecastView design={design} forecast={look.data} stale={look.isPlaceholderData || settled !== design} />
          ) : (
            !wrong && (
              <p className="soft mx-auto mt-16 max-w-[420px] text-center" role="status">
                {design.meters.length > 0
                  ? "Working out how old each value gets…"
                  : "Say which meters there are, and here stands what each of their values becomes, how old it gets, and how many meters the line bears."}
              </p>
            )
          )}
        </div>
      </div>
    </div>
  );
}

function Answer({ n, title, children }: { n: number; title: string; children: ReactNode }) {
  return (
    <section className="card mb-3 p-3" aria-label={title}>
      <h3 className="mb-2 flex items-baseline gap-2">
        <span className="mono soft">{n}</span> {title}
      </h3>
      {children}
    </section>
  );
}

type Part = { site: SiteView; design: Design; onChange: (d: Design) => void };

/** A day, which nothing is asked more seldom than, in ms. */
const day = 86_400_000;

function WhichLine({ site, design, onChange }: Part) {
  const fresh = design.newLine;
  const set = (patch: Partial<Design["newLine"]>) => onChange({ ...design, newLine: { ...fresh, ...patch } });
  const serial = site.lines.filter((l) => l.medium === "serial");
  const how = design.fastest ? "fastest" : design.paceMs ? "every" : "lists";
  return (
    <>
      <Chosen
        label="Serial line"
        value={design.line}
        options={[{ value: "", title: "a new line" }, ...serial.map((l) => ({ value: l.id, title: l.name }))]}
        onChange={(line) => onChange(onLine(site, design, line))}
      />
      {!design.line && (
        <div className="mt-2 grid grid-cols-[1fr_100px_90px] gap-2">
          <Typed label="Its name" value={fresh.name} onChange={(name) => set({ name })} />
          <Chosen
            label="Baud"
            value={String(fresh.format.baud)}
            options={bauds.map((b) => ({ value: String(b), title: baudWord(b) }))}
            onChange={(baud) => set({ format: { ...fresh.format, baud: Number(baud) } })}
          />
          <Chosen
            label="Characters"
            value={`${fresh.format.data}${fresh.format.parity.charAt(0).toUpperCase()}${fresh.format.stop}`}
            options={framings.map((f) => ({ value: f, title: f }))}
            onChange={(f) => set({ format: { ...readFormat(`9600 ${f}`), baud: fresh.format.baud } })}
          />
        </div>
      )}
      <div className="mt-2 grid grid-cols-2 gap-2">
        <Chosen
          label="Everything is read"
          value={how}
          options={[
            { value: "fastest", title: "as often as the line can" },
            { value: "every", title: "every so many seconds" },
            { value: "lists", title: "as the lists say" },
          ]}
          onChange={(to) =>
            onChange({ ...design, fastest: to === "fastest", paceMs: to === "every" ? design.paceMs || 10000 : 0 })
          }
        />
        {how === "every" && (
          <TypedNumber
            label="Seconds"
            part={1000}
            most={day}
            value={design.paceMs}
            onChange={(paceMs) => onChange({ ...design, paceMs })}
          />
        )}
        {!design.line && (
          <Typed
            label="Port of this machine"
            mono
            value={fresh.here ?? ""}
            placeholder="/dev/ttyUSB0"
            onChange={(here) => set({ here })}
          />
        )}
      </div>
      {how !== "lists" && site.links.some((l) => l.line === design.line) && (
        <label className="mt-2 flex min-h-6 items-center gap-2">
          <input
            type="checkbox"
            checked={!!design.all}
            onChange={(e) => onChange({ ...design, all: e.target.checked })}
          />{" "}
          what is on the line already, too
        </label>
      )}
    </>
  );
}

function GivenOn({ site, design, onChange }: Part) {
  const as = design.as;
  const set = (patch: Partial<Design["as"]>) => onChange({ ...design, as: { ...as, ...patch } });
  const makes = site.protocols.filter((p) => p.makes);
  const def = makes.find((p) => p.name === as.protocol);
  const station = def?.settings.find((s) => s.key === def.station);
  const nets = site.lines.filter((l) => l.medium === def?.medium);
  const there = gatewaysOf(site);
  const named = (
    <Typed
      label="Names of the objects"
      value={as.names ?? ""}
      placeholder={as.each ? "{point}" : "{device} {point}"}
      help="{device} and {point} stand for those of the meter"
      onChange={(names) => set({ names })}
    />
  );
  return (
    <>
      {there.length > 0 && (
        <Chosen
          label="Gateway"
          value={as.device ?? ""}
          options={[
            { value: "", title: "a new one" },
            ...there.map((d) => ({ value: d.id, title: `${d.name}, which is there` })),
          ]}
          onChange={(device) => set({ device })}
        />
      )}
      {as.device ? (
        <div className="mt-2">{named}</div>
      ) : (
        <div className="mt-2 grid grid-cols-2 gap-2">
          <Typed label="Name of the gateway" value={as.name} onChange={(name) => set({ name })} />
          <Chosen
            label="Protocol"
            value={as.protocol}
            options={makes.map((p) => ({ value: p.name, title: p.title }))}
            onChange={(protocol) => set({ protocol, settings: {} })}
          />
          <Chosen
            label="Network"
            value={as.line}
            options={[
              ...(nets.some((l) => l.id === as.line) ? [] : [{ value: as.line, title: "choose one" }]),
              ...nets.map((l) => ({ value: l.id, title: l.name })),
            ]}
            onChange={(line) => set({ line })}
          />
          <Typed
            label="Address"
            mono
            value={as.host}
            placeholder={nets.find((l) => l.id === as.line)?.network ?? "192.0.2.60"}
            help="Of this machine on that network"
            onChange={(host) => set({ host })}
          />
          {station && (
            <TypedNumber
              label={station.title}
              least={station.least}
              most={station.most}
              value={Number(valueOf(def, as.settings, station.key))}
              help={station.help}
              onChange={(n) => set({ settings: { ...as.settings, [station.key]: n ?? 0 } })}
            />
          )}
          {named}
        </div>
      )}
      <label className="mt-2 flex min-h-6 items-center gap-2">
        <input type="checkbox" checked={!!as.each} onChange={(e) => set({ each: e.target.checked })} /> a device of its
        own for each meter, behind a network number
      </label>
      <label className="flex min-h-6 items-center gap-2">
        <input type="checkbox" checked={!!as.writable} onChange={(e) => set({ writable: e.target.checked })} /> what a
        meter lets be written may be written through the gateway
      </label>
    </>
  );
}

function WhoReads({ design, onChange }: Omit<Part, "site">) {
  const reader = design.reader;
  const set = (patch: Partial<Design["reader"]>) => onChange({ ...design, reader: { ...reader, ...patch } });
  return (
    <>
      <div className="grid grid-cols-2 gap-2">
        <Typed
          label="Name of who reads"
          value={reader.name ?? ""}
          placeholder="Building controller"
          onChange={(name) => set({ name })}
        />
        <Typed label="Its address" mono value={reader.host ?? ""} onChange={(host) => set({ host })} />
        <Chosen
          label="It reads"
          value={reader.paceMs ? "asks" : "told"}
          options={[
            { value: "asks", title: "at a pace of its own" },
            { value: "told", title: "what it is told of changes" },
          ]}
          onChange={(how) => set({ paceMs: how === "asks" ? 5000 : 0 })}
        />
        {!!reader.paceMs && (
          <TypedNumber
            label="Every so many seconds"
            part={1000}
            most={day}
            value={reader.paceMs}
            onChange={(paceMs) => set({ paceMs })}
          />
        )}
        <TypedNumber
          label="A value may be so many seconds old"
          part={1000}
          most={day}
          open
          value={reader.oldestMs || undefined}
          placeholder="not said"
          onChange={(oldestMs) => set({ oldestMs })}
        />
      </div>
      {!design.as.device && (
        <label className="mt-2 flex min-h-6 items-center gap-2">
          <input type="checkbox" checked={!!reader.only} onChange={(e) => set({ only: e.target.checked })} /> nobody
          else is answered
        </label>
      )}
    </>
  );
}
