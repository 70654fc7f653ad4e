import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useCallback, useEffect, useMemo, useState } from "react";
import { get, post, problemOf } from "../api/client";
import type { Detail, Finding, ReadState, RungList, TalkView } from "../api/types.gen";
import { count } from "../shared/numbers";
import { attempt } from "../shared/toast";
import { clock, Empty, FindingCard, ProblemNotice, SettingFixes } from "../shared/ui";
import { BaseTabs, Bytes, type Base } from "./BytesView";
import { History } from "./History";
import { Learned } from "./Learned";
import { Overview } from "./Overview";
import { queryOf, useRungs, type Wanted } from "./recorded";
import { Rungs, type RungRow } from "./Rungs";
import { Talks } from "./Talks";

/** Names a finding in an address. */
const keyOf = (f: Finding) => [f.code, f.subject.kind, f.subject.id].join("~");

/** What a recording holds and what is wrong with it. */
export function RecordingPage() {
  const { id = "" } = useParams({ strict: false }) as { id?: string };
  const wanted = useSearch({ strict: false }) as Wanted;
  const navigate = useNavigate();
  const client = useQueryClient();
  const { data, error } = useQuery({
    queryKey: ["recording", id],
    queryFn: () => get<ReadState>(`/api/recordings/${id}`),
    refetchInterval: (q) => (q.state.data && !q.state.data.reading ? false : 400),
    retry: false,
  });
  const go = useCallback(
    (search: Wanted) => void navigate({ to: "/traffic/recordings/$id", params: { id }, search }),
    [navigate, id],
  );
  const change = useCallback(
    (patch: Wanted) =>
      void navigate({
        to: "/traffic/recordings/$id",
        params: { id },
        search: (old: Wanted) => ({ ...old, ...patch }),
      } as never),
    [navigate, id],
  );
  const onReading = useCallback((n: number) => change({ row: n, view: undefined }), [change]);
  const filter = queryOf(wanted);
  const done = !!data?.done && !data.failed;
  const rungs = useRungs(id, done, filter);
  const [place, setPlace] = useState(-1);
  const row = wanted.row;
  // Where the open exchange stands among those that the filter lets through.
  useEffect(() => {
    if (row === undefined || !done) return setPlace(-1);
    let gone = false;
    void get<RungList>(`/api/recordings/${id}/exchanges?${filter}&around=${row}&most=2`)
      .then((l) => {
        const i = l.rungs.findIndex((r) => r.row === row);
        if (!gone) setPlace(i < 0 ? -1 : l.from + i);
      })
      .catch(() => setPlace(-1));
    return () => {
      gone = true;
    };
  }, [id, row, filter, done]);
  const lanes = useMemo(() => {
    const talks = data?.talks ?? [];
    const asks = new Set(talks.map((t) => t.asker));
    return { asks, ids: [...asks, ...new Set(talks.map(answererOf).filter((a) => !asks.has(a)))] };
  }, [data?.talks]);
  const names = useMemo(() => laneNames(data?.talks ?? []), [data?.talks]);
  const { rung, base, bring } = rungs;
  useEffect(() => {
    if (place >= 0) bring(place);
  }, [place, bring]);
  const drawn = useCallback(
    (index: number): RungRow | undefined => {
      const r = rung(base + index);
      if (!r) return undefined;
      return {
        id: r.row,
        atMs: r.atMs,
        from: r.asker,
        to: r.station < 0 ? r.at : `${r.at}/${r.station}`,
        after: r.latencyMs >= 0 ? `+ ${r.latencyMs.toFixed(1)} ms` : r.stray ? "" : "no answer",
        asks: r.try ? `try ${r.try}: ${r.asks}` : r.again ? `again: ${r.asks}` : r.asks,
        says: r.says,
        outcome: r.outcome || "stray",
        good: !r.bad,
        report: !!r.stray,
        reaches: true,
        comes: r.answeredIn !== undefined,
      };
    },
    [rung, base],
  );
  const jump = (query: string) =>
    attempt(async () => {
      const l = await get<RungList>(`/api/recordings/${id}/exchanges?${query}&most=1`);
      const first = l.rungs[0];
      if (first) change({ row: first.row, view: undefined });
    });
  if (error)
    return (
      <div className="p-8">
        <ProblemNotice problem={problemOf(error)} />
        <Link to="/traffic/recordings" className="underline">
          All recordings
        </Link>
      </div>
    );
  if (!data) return <p className="soft p-8">Opening the recording…</p>;
  const findings = data.result.findings ?? [];
  const wrong = findings.filter((f) => f.severity !== "note");
  const notes = findings.filter((f) => f.severity === "note");
  const chosen = findings.find((f) => keyOf(f) === wanted.finding);
  const spanMs = data.all.length * data.stepMs;
  const asked = data.talks.reduce((sum, t) => sum + t.asked, 0);
  const answered = data.talks.reduce((sum, t) => sum + t.answered, 0);
  const card = (f: Finding, i: number) => (
    <Told
      key={keyOf(f) + i}
      finding={f}
      chosen={f === chosen}
      onOpen={() => {
        change({ finding: keyOf(f) });
        const packet = f.packets?.[0];
        if (packet && done) void jump(`packet=${packet}`);
      }}
      onPacket={(packet) => void jump(`packet=${packet}`)}
    />
  );
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      {done && data.all.length > 0 && (
        <Overview
          beginsMs={data.beginsMs}
          stepMs={data.stepMs}
          all={data.all}
          bad={data.bad}
          fromMs={rung(rungs.view.first)?.atMs ?? 0}
          toMs={rung(rungs.view.last)?.atMs ?? 0}
          onGo={(atMs) => void jump(`time=${atMs}`)}
        />
      )}
      <div className="flex min-h-0 flex-1">
        <aside
          className="flex w-[332px] flex-none flex-col overflow-y-auto border-r border-rule p-4"
          aria-label="What is wrong"
        >
          <h2 className="mb-2">What is wrong, worst first</h2>
          {data.failed && (
            <ProblemNotice
              problem={{ code: "unreadable", sentence: data.failed + ".", do: "Nothing of it was read." }}
            />
          )}
          {!data.failed && wrong.length === 0 && (
            <p className="soft mb-3">{data.reading ? "Nothing so far." : "Nothing that Ferry can see."}</p>
          )}
          {wrong.map(card)}
          {notes.length > 0 && (
            <section className="pt-2">
              <h3 className="mb-1">Odd, and well all the same</h3>
              {notes.map(card)}
            </section>
          )}
          <div className="small soft mt-auto pt-4" data-sum>
            {data.reading && <p>{Math.round(100 * data.share)} % is read.</p>}
            <p>
              {count(data.result.packets, "packet")}, {count(data.result.connections, "connection")},{" "}
              {count(data.result.exchanges, "exchange")}
              {spanMs > 0 ? ` in ${spanWords(spanMs)}` : ""}
              {asked > 0 ? `, ${((100 * answered) / asked).toFixed(1)} % answered` : ""}.
            </p>
            {(data.result.said ?? []).map((line) => (
              <p key={line} className="mt-1 break-words">
                {line}
              </p>
            ))}
          </div>
        </aside>
        <div className="flex min-w-0 flex-1 flex-col">
          <div className="flex flex-none flex-wrap items-center gap-2 border-b border-rule bg-sheet px-4 py-2">
            <Link to="/traffic/recordings" className="small underline">
              Recordings
            </Link>
            <b className="max-w-[260px] truncate" title={data.name}>
              {data.name}
            </b>
            <span className="small soft">{rungs.total > 0 && !wanted.view ? count(rungs.total, "exchange") : ""}</span>
            <Chips wanted={wanted} onDrop={change} />
            <button
              type="button"
              className="button tight ml-auto"
              aria-pressed={!!wanted.bad}
              onClick={() => change({ bad: wanted.bad ? undefined : true, view: undefined })}
            >
              Only what is wrong
            </button>
            <button
              type="button"
              className="button tight"
              aria-pressed={wanted.view === "talks"}
              onClick={() => change({ view: wanted.view === "talks" ? undefined : "talks" })}
            >
              Who asks whom
            </button>
            <button
              type="button"
              className="button tight"
              aria-pressed={wanted.view === "learned"}
              title="Devices and points of a system that nobody documented"
              onClick={() => change({ view: wanted.view === "learned" ? undefined : "learned" })}
            >
              Learn
            </button>
            <HandOut id={id} filter={filter} />
            <button
              type="button"
              className="button tight"
              title="Against the site as it is now"
              disabled={data.reading}
              onClick={() =>
                void attempt(async () => {
                  client.setQueryData(["recording", id], await post<ReadState>(`/api/recordings/${id}/again`));
                })
              }
            >
              Judge again
            </button>
          </div>
          {wanted.view === "talks" ? (
            <Talks talks={data.talks} spanMs={spanMs} onPick={(w) => go(w)} />
          ) : wanted.view === "learned" ? (
            <Learned id={id} ready={done} />
          ) : wanted.view === "history" && done ? (
            <History from={`/api/recordings/${id}/history?`} wanted={wanted} onRow={onReading} />
          ) : (
            <Rungs
              count={rungs.drawn}
              row={drawn}
              lanes={lanes}
              name={(lane) => names.get(lane) ?? lane}
              chosen={row ?? -1}
              chosenAt={place >= base && place < base + rungs.drawn ? place - base : -1}
              follow={false}
              onChoose={(n) => change({ row: n })}
              onView={rungs.onView}
              empty={
                <Empty title={done ? "No exchange" : "Being read"}>
                  {done
                    ? filter
                      ? "Nothing is as you want it: drop a condition above."
                      : "Nothing was said that Ferry knows. What is on the way is judged all the same."
                    : "Exchanges are listed when the recording is read; what is wrong shows as it is found."}
                </Empty>
              }
            />
          )}
          {!wanted.view && rungs.drawn < rungs.total && (
            <div className="small soft flex flex-none gap-3 border-t border-rule px-4 py-1">
              {count(rungs.drawn, "exchange")} from number {base + 1} on are drawn.
              {base > 0 && (
                <button type="button" className="underline" onClick={() => bring(base - 1)}>
                  Earlier
                </button>
              )}
              {base + rungs.drawn < rungs.total && (
                <button type="button" className="underline" onClick={() => bring(base + rungs.drawn)}>
                  Later
                </button>
              )}
            </div>
          )}
          {row !== undefined && done && !wanted.view && (
            <RecordedBytes id={id} row={row} onClose={() => change({ row: undefined })} onPick={change} />
          )}
        </div>
      </div>
    </div>
  );
}

const answererOf = (t: { at: string; station: number }) => (t.station < 0 ? t.at : `${t.at}/${t.station}`);

/** What lanes are called: a station by its number alone, where no other has it. */
function laneNames(talks: TalkView[]): Map<string, string> {
  const names = new Map<string, string>();
  const places = new Map<string, Set<string>>();
  for (const t of talks) {
    const short = t.answerer.split(" at ")[0] ?? t.answerer;
    places.set(short, (places.get(short) ?? new Set()).add(t.at));
  }
  for (const t of talks) {
    const [short = t.answerer, address] = t.answerer.split(" at ");
    names.set(answererOf(t), address && (places.get(short)?.size ?? 0) > 1 ? `${short} …${address.slice(-4)}` : short);
  }
  return names;
}

function spanWords(ms: number): string {
  if (ms < 120_000) return `${(ms / 1000).toFixed(1)} s`;
  if (ms < 7_200_000) return `${Math.round(ms / 60_000)} min`;
  return `${(ms / 3_600_000).toFixed(1)} h`;
}

/** The file as it came, and the exchanges that are listed as a table. */
function HandOut({ id, filter }: { id: string; filter: string }) {
  return (
    <span className="small flex gap-2">
      <a className="underline" href={`/api/recordings/${id}/file.capture`}>
        File
      </a>
      <a className="underline" href={`/api/recordings/${id}/file.csv?${filter}`}>
        CSV
      </a>
      <a className="underline" href={`/api/recordings/${id}/file.json?${filter}`}>
        JSON
      </a>
    </span>
  );
}

/** The conditions that are set; each is dropped by its cross. */
function Chips({ wanted, onDrop }: { wanted: Wanted; onDrop: (w: Wanted) => void }) {
  const chips: [string, Wanted][] = [];
  if (wanted.asker !== undefined) chips.push([`asked by ${wanted.asker}`, { asker: undefined }]);
  if (wanted.at !== undefined) {
    const of = wanted.station === undefined ? "" : ` number ${wanted.station}`;
    chips.push([`answered at ${wanted.at}${of}`, { at: undefined, station: undefined }]);
  }
  if (wanted.function !== undefined) chips.push([`function ${wanted.function}`, { function: undefined }]);
  if (wanted.offset !== undefined) {
    const times = wanted.count === undefined ? "" : ` ×${wanted.count}`;
    chips.push([`${wanted.area} ${wanted.offset}${times}`, { area: undefined, offset: undefined, count: undefined }]);
  }
  return (
    <>
      {chips.map(([title, drop]) => (
        <button
          key={title}
          type="button"
          className="small mono rounded border border-rule px-2 py-[1px]"
          aria-label={`Drop the condition: ${title}`}
          onClick={() => onDrop(drop)}
        >
          {title} ✕
        </button>
      ))}
    </>
  );
}

/** A finding; where it is chosen, what else could explain it, and the way to each packet. */
function Told({
  finding,
  chosen,
  onOpen,
  onPacket,
}: {
  finding: Finding;
  chosen: boolean;
  onOpen: () => void;
  onPacket: (packet: number) => void;
}) {
  const packets = [...new Set(finding.packets ?? [])];
  return (
    <>
      <FindingCard finding={finding} chosen={chosen} onClick={onOpen} />
      <SettingFixes finding={finding} />
      {chosen && (
        <div className="small -mt-1 mb-3 px-2">
          {finding.else && <p className="soft">Or else: {finding.else}</p>}
          <Link to="/traffic/codebook" search={{ q: finding.code } as never} className="underline">
            Codes that are seen so
          </Link>
          {packets.length > 0 && (
            <p className="mt-1 flex flex-wrap gap-2">
              {packets.map((p) => (
                <button key={p} type="button" className="underline" onClick={() => onPacket(p)}>
                  packet {p}
                </button>
              ))}
            </p>
          )}
        </div>
      )}
    </>
  );
}

/** The bytes of an exchange of a recording. */
function RecordedBytes({
  id,
  row,
  onClose,
  onPick,
}: {
  id: string;
  row: number;
  onClose: () => void;
  onPick: (w: Wanted) => void;
}) {
  const [base, setBase] = useState<Base>("hex");
  const { data, error } = useQuery({
    queryKey: ["recorded exchange", id, row],
    queryFn: () => get<Detail>(`/api/recordings/${id}/exchanges/${row}`),
    staleTime: 5000,
    retry: false,
  });
  if (error)
    return (
      <section className="flex-none border-t-2 border-ink bg-sheet p-3">
        <ProblemNotice problem={problemOf(error)} />
      </section>
    );
  if (!data) return null;
  const r = data.rung;
  return (
    <section className="max-h-[46%] flex-none overflow-y-auto border-t-2 border-ink bg-sheet p-3" aria-label="Bytes">
      <div className="mb-2 flex flex-wrap items-center gap-x-3">
        <h3>{r.asks || "Stray octets"}</h3>
        <span className="small soft">
          <span className="mono">{clock(r.atMs)}</span>
          {r.latencyMs >= 0 ? ` · ${r.latencyMs.toFixed(3)} ms` : ""} · {r.asker} → {r.answerer}
        </span>
        <span className="ml-auto" />
        <BaseTabs base={base} onBase={setBase} />
        <button type="button" aria-label="Close the bytes" className="font-semibold underline" onClick={onClose}>
          Close
        </button>
      </div>
      {r.bad && <p className="mb-2 font-semibold text-fault">{r.says}</p>}
      {data.parts.map((p) => (
        <Bytes
          key={p.title}
          title={`${p.title}, packet ${p.packet}`}
          kind={p.title.toLowerCase()}
          hex={p.hex}
          fields={p.fields}
          base={base}
        />
      ))}
      {data.parts.length === 1 && r.latencyMs < 0 && !r.stray && <p className="soft">No bytes came back.</p>}
      <p className="small mt-1 flex flex-wrap gap-3">
        {r.try !== undefined && (
          <button type="button" className="underline" onClick={() => onPick({ row: r.first ?? 0 })}>
            Try {r.try} of one question: look at the first
          </button>
        )}
        <button type="button" className="underline" onClick={() => onPick({ asker: r.asker })}>
          Only what {r.asker} asks
        </button>
        <button
          type="button"
          className="underline"
          onClick={() => onPick({ at: r.at, station: r.station < 0 ? undefined : r.station })}
        >
          Only what {r.answerer} answers
        </button>
        {!r.stray && (
          <button type="button" className="underline" onClick={() => onPick({ function: r.function })}>
            Only this function
          </button>
        )}
      </p>
    </section>
  );
}
