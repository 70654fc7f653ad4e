import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { memo, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { get, post, useSite } from "../api/client";
import { useLivePart } from "../api/live";
import type { Exchange, Finding, LiveView, SiteView, TakenView } from "../api/types.gen";
import { FaultSelect } from "../lines/FaultSelect";
import { shortened } from "../shared/LongName";
import { FindingCard, SettingFixes } from "../shared/ui";
import { count } from "../shared/numbers";
import { attempt } from "../shared/toast";
import { BytesView } from "./BytesView";
import { History } from "./History";
import { Ladder } from "./Ladder";
import { Overview } from "./Overview";
import { Talks } from "./Talks";

/** Names a finding in an address. */
const keyOf = (f: Finding) => [f.code, f.subject.kind, f.subject.id].join("~");

/** Who said what to whom when, what it means to this site, and what is wrong. */
export function TrafficPage() {
  const { data: site } = useSite();
  // What is looked at stands in the address, so that it can be handed on.
  const { link = "", area, offset } = useSearch({ strict: false }) as { link?: string; area?: string; offset?: number };
  const navigate = useNavigate();
  const setLink = useCallback(
    (next: string) => void navigate({ to: ".", search: next ? { link: next } : {}, replace: true } as never),
    [navigate],
  );
  const [held, setHeld] = useState<number>();
  const [counted, setCounted] = useState(false);
  const findings = useLivePart((live) => live.findings);
  const mode = useLivePart((live) => live.state.mode);
  const running = useLivePart((live) => live.state.running.length > 0);
  const many = (site?.links.length ?? 0) > 100;
  const exchange = useSlowly(
    useLivePart((live) => live.exchange),
    many ? 1000 : 500,
  );
  // On a large site the latest alone are looked at until somebody holds them still.
  const most = many && held === undefined ? 80 : 300;
  const params = useParams({ strict: false });
  const at = held ?? exchange;
  const of = link.startsWith("line:") ? `line=${link.slice(5)}` : `link=${link}`;
  const { data: stats } = useQuery({
    queryKey: ["exchange-stats", of],
    queryFn: () => get<LiveView>(`/api/exchanges/stats?${of}`),
    placeholderData: (old) => old,
    refetchInterval: many ? 3000 : 1500,
    enabled: exchange > 0,
    structuralSharing: false,
  });
  const { data: list } = useQuery({
    queryKey: ["exchanges", link, at, most],
    queryFn: () => get<Exchange[]>(`/api/exchanges?most=${most}&${of}${held === undefined ? "" : `&until=${held}`}`),
    placeholderData: (old) => old,
    staleTime: held ? Infinity : 0,
    gcTime: 2000,
    structuralSharing: false,
  });
  const chosen = findings.find((f) => keyOf(f) === params.key);
  useEffect(() => {
    // To follow a finding is to look at its link.
    if (chosen?.subject.kind === "link") setLink(chosen.subject.id);
  }, [chosen?.subject.kind, chosen?.subject.id, setLink]);
  const links = useMemo(
    () => (site?.links ?? []).filter((l) => !link || l.id === link || "line:" + l.line === link),
    [site, link],
  );
  const now = useRef(exchange);
  now.current = exchange;
  const choose = useCallback(
    (seq: number) => {
      setHeld((h) => h ?? now.current);
      void navigate({
        to: "/traffic/exchange/$seq",
        params: { seq: String(seq) },
        search: ((old: object) => old) as never,
      });
    },
    [navigate],
  );
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const wrong = findings.filter((f) => f.severity !== "note");
  const habits = findings.filter((f) => f.severity === "note" && f.where === "traffic");
  const shown = held && list ? list.filter((e) => e.seq <= held) : (list ?? []);
  const begins = shown[0] ? Date.parse(shown[0].at) : 0;
  const ends = shown.length ? Date.parse(shown[shown.length - 1]?.at ?? "") : 0;
  const goTo = (atMs: number) => {
    if (!stats || stats.seqs.length === 0) return;
    // What is shown ends a little behind the time that was pressed.
    const step = Math.min(Math.max(Math.ceil((atMs - stats.beginsMs) / stats.stepMs) + 1, 0), stats.seqs.length - 1);
    setHeld(stats.seqs[step]);
  };
  const reports = shown.filter((e) => e.outcome === "reported").length;
  const answered = shown.filter((e) => e.outcome === "answered").length;
  const asked = shown.length - reports;
  return (
    <>
      <aside
        className="flex w-[332px] flex-none flex-col overflow-y-auto border-r border-rule p-4"
        aria-label="What is wrong"
      >
        <nav className="small mb-2 flex gap-3" aria-label="More of traffic">
          <Link to="/traffic/lookouts" className="underline" title="What is watched during a run, and who is told">
            Lookouts
          </Link>
          <Link to="/traffic/recordings" className="underline" title="Files that somebody recorded, and those of Ferry">
            Recordings
          </Link>
          <Link to="/traffic/relays" className="underline" title="Stand between two ends, or listen to a serial line">
            Relays
          </Link>
          <Link to="/traffic/codebook" className="underline" title="What a number means that some box shows">
            Codebook
          </Link>
        </nav>
        <h2 className="mb-2">What is wrong, worst first</h2>
        {wrong.length === 0 && (
          <p className="soft mb-3">
            {running ? "Nothing that Ferry can see." : "Nothing in the plan. Start a run to see the traffic."}
          </p>
        )}
        {wrong.map((f) => (
          <Told key={keyOf(f) + (f.subject.column ?? "")} finding={f} chosen={f === chosen} />
        ))}
        {habits.length > 0 && (
          <section className="pt-2">
            <h3 className="mb-1">Odd, and well all the same</h3>
            {habits.map((f) => (
              <Told key={keyOf(f)} finding={f} chosen={f === chosen} />
            ))}
          </section>
        )}
        {mode === "bench" && (
          <section className="mt-auto pt-4">
            <h3 className="mb-1">Faults of the bench</h3>
            <p className="small soft mb-1">Switch one on to see what it looks like.</p>
            <Faults site={site} />
          </section>
        )}
      </aside>
      <div className="flex min-w-0 flex-1 flex-col">
        <div className="flex flex-none items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
          <select
            className="input !w-[240px] flex-none"
            aria-label="Link"
            value={link}
            onChange={(e) => setLink(e.target.value)}
          >
            <LinkOptions site={site} />
          </select>
          <span className="small soft min-w-0 flex-1 truncate">
            {shown.length
              ? `${held === undefined ? "the latest " : ""}${count(shown.length, "exchange")}` +
                (asked ? `, ${((100 * answered) / asked).toFixed(1)} % answered` : "") +
                (reports ? `, ${count(reports, "report")} unasked` : "")
              : ""}
          </span>
          <button
            type="button"
            className="button tight flex-none"
            aria-pressed={counted}
            title="Counts, rates and times of answers, for each link and each question"
            onClick={() => setCounted(!counted)}
          >
            Who asks whom
          </button>
          <button
            type="button"
            className="button tight flex-none"
            aria-pressed={held !== undefined}
            onClick={() => setHeld(held === undefined ? exchange : undefined)}
          >
            {held === undefined ? "Hold still" : "Follow again"}
          </button>
          <button
            type="button"
            className="button tight flex-none"
            title="The exchanges of this list, with all that came before and Ferry still knows"
            onClick={() =>
              void attempt(async () => {
                const taken = await post<TakenView>(`/api/recordings/own?${of}`);
                void navigate({ to: "/traffic/recordings/$id", params: { id: taken.id } });
              })
            }
          >
            Keep as a recording
          </button>
        </div>
        {stats && stats.all.length > 1 && (
          <Overview
            beginsMs={stats.beginsMs}
            stepMs={stats.stepMs}
            all={stats.all}
            bad={stats.bad}
            fromMs={begins}
            toMs={ends}
            onGo={goTo}
          />
        )}
        {counted && (
          <div className="flex max-h-[45%] min-h-[120px] flex-none flex-col border-b border-rule">
            <Talks
              talks={stats?.talks ?? []}
              spanMs={stats?.spanMs ?? 0}
              onPick={(w, talk) => {
                if (!talk.link) return;
                if (w.view !== "history") return setLink(talk.link);
                setCounted(false);
                void navigate({ to: ".", search: { link: talk.link, area: w.area, offset: w.offset } } as never);
              }}
            />
          </div>
        )}
        {link && area !== undefined && offset !== undefined ? (
          <>
            <div className="flex flex-none justify-end bg-sheet px-4 pt-2">
              <button type="button" className="button tight" onClick={() => setLink(link)}>
                Back to the exchanges
              </button>
            </div>
            <History
              from={`/api/exchanges/history?link=${link}&`}
              wanted={{ area, offset }}
              live={held === undefined}
              onRow={choose}
            />
          </>
        ) : (
          <Ladder
            site={site}
            links={links}
            list={shown}
            chosen={Number(params.seq)}
            follow={held === undefined && !params.seq}
            running={running}
            onChoose={choose}
          />
        )}
        {params.seq && <BytesView seq={params.seq} />}
      </div>
    </>
  );
}

/** A finding with what can be put right at once. */
function Told({ finding, chosen }: { finding: Finding; chosen: boolean }) {
  const navigate = useNavigate();
  const open = () =>
    void (chosen && finding.subject.kind === "point" && finding.subject.device
      ? navigate({
          to: "/points/$device/$point",
          params: { device: finding.subject.device, point: finding.subject.id },
        })
      : navigate({
          to: "/traffic/finding/$key",
          params: { key: keyOf(finding) },
          search: ((old: object) => old) as never,
        }));
  return (
    <>
      <FindingCard finding={finding} chosen={chosen} onClick={open} />
      {chosen && (
        <p className="small -mt-1 mb-3 px-2">
          {finding.else && <span className="soft block">Or else: {finding.else}</span>}
          <Link to="/traffic/codebook" search={{ q: finding.code } as never} className="underline">
            Codes that are seen so
          </Link>
        </p>
      )}
      <SettingFixes finding={finding} />
    </>
  );
}

/** Every link, by line; drawn once for a site. */
const LinkOptions = memo(function LinkOptions({ site }: { site: SiteView }) {
  const names = new Map(site.devices.map((d) => [d.id, d.name]));
  return (
    <>
      <option value="">every link</option>
      {site.lines.map((line) => (
        <optgroup key={line.id} label={line.name}>
          <option value={"line:" + line.id}>all of {line.name}</option>
          {site.links
            .filter((l) => l.line === line.id)
            .map((l) => (
              <option key={l.id} value={l.id} title={`${names.get(l.asking)} → ${names.get(l.answering)}`}>
                {shortened(names.get(l.asking) ?? "", 20)} → {shortened(names.get(l.answering) ?? "", 24)}
              </option>
            ))}
        </optgroup>
      ))}
    </>
  );
});

/** How many stand-ins are listed before one is looked for by name. */
const fewStandIns = 60;

/** The faults of the bench: of every stand-in, or of those that are looked for. */
const Faults = memo(function Faults({ site }: { site: SiteView }) {
  const [wanted, setWanted] = useState("");
  const names = new Map(site.devices.map((d) => [d.id, d.name]));
  // One for each device: it may have several ports.
  const all = [...new Map(site.standIns.map((s) => [s.device, s])).values()];
  const many = all.length > fewStandIns;
  const listed = many
    ? all
        .filter((s) =>
          wanted ? (names.get(s.device) ?? s.device).toLowerCase().includes(wanted.toLowerCase()) : !!s.fault.kind,
        )
        .slice(0, fewStandIns)
    : all;
  return (
    <>
      {many && (
        <input
          className="input mb-1"
          type="search"
          aria-label="Find a stand-in"
          placeholder={`find one of ${all.length} by name`}
          value={wanted}
          onChange={(e) => setWanted(e.target.value)}
        />
      )}
      {listed.map((s) => (
        <FaultSelect key={s.device} site={site} device={s.device} named />
      ))}
    </>
  );
});

/** A number that changes often, taken over no more often than every so many milliseconds. */
function useSlowly(n: number, ms: number) {
  const [shown, setShown] = useState(n);
  const newest = useRef(n);
  newest.current = n;
  useEffect(() => {
    const timer = setInterval(() => setShown(newest.current), ms);
    return () => clearInterval(timer);
  }, [ms]);
  return shown;
}
