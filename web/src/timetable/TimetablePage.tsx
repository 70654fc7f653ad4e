import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useCallback, useDeferredValue, useMemo, useState } from "react";
import { get, post, useSite, useStats, useTimetable } from "../api/client";
import { useLivePart } from "../api/live";
import { lineOf, nameOf } from "../api/site";
import type { Advice as AdviceItem, Edit, LearnView, Outlook, Request, WhatIfView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { attempt, say } from "../shared/toast";
import { Empty, millis } from "../shared/ui";
import { count } from "../shared/numbers";
import { Advice } from "./Advice";
import { Loads } from "./Loads";
import { Outages } from "./Outages";
import { Requests } from "./Requests";
import { Sampling } from "./Sampling";
import { Track } from "./Track";

/** Changes that are looked at on paper before they are made, and devices that are taken for silent. */
export interface Paper {
  what: string;
  edits: Edit[];
}

/** The requests of a line: what it would take, what it really took, and what a change would bring. */
export function TimetablePage() {
  const { data: site } = useSite();
  const state = useLivePart((live) => live.state);
  const client = useQueryClient();
  const navigate = useNavigate();
  const { request } = useParams({ strict: false });
  const search = useSearch({ strict: false }) as { line?: string };
  const [paper, setPaper] = useState<Paper>();
  const [silent, setSilent] = useState<string[]>([]);
  // The name of a request begins with that of its link.
  const asked = request ? site?.links.find((l) => request.startsWith(l.id + "-")) : undefined;
  const { data } = useTimetable(asked?.line ?? search.line);
  const fullest = data?.plan.lines.reduce<string | undefined>(
    (best, l) =>
      l.requests + l.loads > 0 &&
      (!best || l.utilisation > (data.plan.lines.find((x) => x.line === best)?.utilisation ?? 0))
        ? l.line
        : best,
    undefined,
  );
  const line =
    asked?.line ?? (search.line && data?.plan.lines.some((l) => l.line === search.line) ? search.line : fullest);
  // What was measured comes every second: it is drawn in slices, when there is time.
  const measured = useDeferredValue(useStats(line).data);
  const stats = useMemo(() => new Map((measured?.stats ?? []).map((s) => [s.id, s])), [measured]);
  const choose = useCallback(
    (id: string) => void navigate({ to: "/timetable/$request", params: { request: id } }),
    [navigate],
  );
  const { data: outlook } = useQuery({
    queryKey: ["outlook", line, silent, data?.seq],
    queryFn: () => get<Outlook>(`/api/lines/${line}/outlook?silent=${silent.join(",")}`),
    enabled: !!line,
    placeholderData: (old) => (old?.line === line ? old : undefined),
  });
  const supposed = !!paper || silent.length > 0;
  const { data: whatIf } = useQuery({
    queryKey: ["whatif", paper, silent, data?.seq],
    queryFn: () =>
      post<WhatIfView>("/api/timetable/whatif", {
        line,
        what: "",
        edits: paper?.edits ?? [],
        silent,
        commit: false,
        seq: 0,
      }),
    enabled: supposed,
  });
  if (!site || !data) return <p className="soft p-8">Compiling…</p>;
  if (!line)
    return (
      <div className="flex-1">
        <Empty title="Nothing to ask yet">
          The timetable is compiled from the points of the devices that a link asks. Add a link under Lines and points
          under Points.
        </Empty>
      </div>
    );
  const plan = supposed && whatIf ? whatIf.plan : data.plan;
  const load = plan.lines.find((l) => l.line === line);
  const now = data.plan.lines.find((l) => l.line === line);
  const requests = ofLine(plan.requests, line);
  const links = site.links.filter((l) => l.line === line);
  const runs = new Set(state.running);
  const running = links.filter((l) => runs.has(l.id)).length;
  const onLine = lineOf(site, line);
  const mine = measured?.stats ?? [];
  const answered = mine.reduce((n, s) => n + s.count, 0);
  const failed = mine.reduce((n, s) => n + s.failed, 0);
  const run = (what: "start" | "stop", ids: string[]) =>
    attempt(async () => {
      await post(`/api/run/${what}`, { links: ids });
      await client.invalidateQueries({ queryKey: ["stats"] });
    });
  const learn = () =>
    attempt(async () => {
      const answer = await post<LearnView>("/api/timetable/learn");
      await client.invalidateQueries({ queryKey: ["site"] });
      await client.invalidateQueries({ queryKey: ["timetable"] });
      say(answer.sentence + " Ctrl Z takes it back.");
    });
  const apply = (a: AdviceItem) =>
    attempt(async () => {
      await post<WhatIfView>("/api/timetable/whatif", {
        line,
        what: "followed advice: " + a.sentence,
        edits: a.edits,
        silent: [],
        commit: true,
        seq: data.seq,
      });
      setPaper(undefined);
      await client.invalidateQueries({ queryKey: ["site"] });
      await client.invalidateQueries({ queryKey: ["timetable"] });
      say("Done. Ctrl Z takes it back. In the devices themselves it has to be set by hand.");
    });
  const worst = outlook?.oneSilent;
  const percent = (x: number) => `${(100 * x).toFixed(x < 0.1 ? 1 : 0)}\u2009%`;
  return (
    <div className="min-w-0 flex-1 overflow-y-auto p-4">
      <div className="mb-3 flex flex-wrap items-center gap-2">
        {site.lines
          .filter((l) => data.plan.lines.some((x) => x.line === l.id && x.requests + x.loads > 0))
          .map((l) => (
            <button
              key={l.id}
              type="button"
              className={"button " + (l.id === line ? "main" : "")}
              aria-pressed={l.id === line}
              onClick={() => {
                setPaper(undefined);
                setSilent([]);
                void navigate({ to: "/timetable", search: { line: l.id } as never });
              }}
            >
              {l.name}{" "}
              <span className="opacity-80">
                {percent(data.plan.lines.find((x) => x.line === l.id)?.utilisation ?? 0)}
              </span>
            </button>
          ))}
        <span className="small soft">
          {running ? `${running} of ${links.length} links run on the ${state.mode}` : "Nothing runs"}
          {answered > 0 &&
            ` · ${count(answered, "request")} asked, ${failed ? `${failed} without a value` : "every one answered"}`}
        </span>
        <span className="ml-auto flex flex-wrap gap-2">
          <button
            type="button"
            className={"button " + (running < links.length ? "main" : "")}
            disabled={running === links.length}
            onClick={() =>
              void run(
                "start",
                links.map((l) => l.id),
              )
            }
          >
            Start the line
          </button>
          <button
            type="button"
            className="button"
            disabled={state.running.length === site.links.length}
            onClick={() => void run("start", [])}
          >
            Start all
          </button>
          <button
            type="button"
            className="button"
            disabled={!state.running.length}
            onClick={() => void run("stop", [])}
          >
            Stop the run
          </button>
          <button
            type="button"
            className="button"
            disabled={!answered}
            title="Takes the measured thinking times over into the plan"
            onClick={() => void learn()}
          >
            Learn from the run
          </button>
        </span>
      </div>
      {supposed && (
        <div className="notice doubt mb-3 flex flex-wrap items-center gap-3" data-testid="paper">
          <span className="min-w-0 flex-1">
            <b>On paper only.</b> {paper?.what}{" "}
            {silent.length > 0 && `Taken for silent: ${silent.map((id) => nameOf(site, id)).join(", ")}.`} The line
            would be {percent(load?.utilisation ?? 0)} full in place of {percent(now?.utilisation ?? 0)}, and{" "}
            {load?.holds ? "every pace of the others holds" : "not every pace holds"}.
          </span>
          <button
            type="button"
            className="button"
            onClick={() => {
              setPaper(undefined);
              setSilent([]);
            }}
          >
            Back to the plan
          </button>
        </div>
      )}
      <div className="mb-4 grid grid-cols-4 gap-3">
        <Figure
          title={onLine?.medium === "serial" ? `${onLine.name}, line time used` : `${onLine?.name}, busiest connection`}
          value={percent(load?.utilisation ?? 0)}
          state={load && !load.holds ? "fault" : (load?.utilisation ?? 0) > 0.7 ? "doubt" : ""}
          note={load?.holds ? "every pace holds, at its worst" : "not every pace holds"}
        />
        <Figure
          title={
            worst ? `…with ${worst.names.map((n) => shortened(n, 26)).join(" and ")} silent` : "…with a device silent"
          }
          value={worst ? percent(worst.utilisation) : "—"}
          state={worst && !worst.holds ? "fault" : (worst?.utilisation ?? 0) > 0.7 ? "doubt" : ""}
          note={
            worst
              ? `${millis(worst.lostMs)} lost at a time${outlook?.twoSilent ? `; two silent: ${percent(outlook.twoSilent.utilisation)}` : ""}`
              : ""
          }
        />
        <Figure
          title="Oldest a value can be"
          value={load ? millis(oldest(requests)) : "—"}
          note="of the fastest pace, its answer late by the worst"
        />
        <Figure
          title="Requests"
          value={String(load?.requests ?? 0)}
          note={`for ${count(load?.points ?? 0, "point")}; one each would be ${load?.alone ?? 0}, and ${percent(load?.aloneUtilisation ?? 0)}`}
        />
      </div>
      <Track
        key={line}
        site={site}
        line={line}
        requests={requests}
        stats={stats}
        chosen={request}
        running={running > 0}
        silent={silent}
        onSilent={setSilent}
        onChoose={choose}
      />
      <Requests site={site} requests={requests} stats={stats} chosen={request} onChoose={choose} />
      <Loads site={site} loads={plan.loads.filter((l) => l.line === line)} />
      <div className="mt-4 grid grid-cols-2 items-start gap-4 max-[1100px]:grid-cols-1">
        {outlook && (
          <Advice
            outlook={outlook}
            paper={paper}
            onPaper={(a) => setPaper({ what: a.sentence, edits: a.edits })}
            onApply={(a) => void apply(a)}
          />
        )}
        <Sampling site={site} line={line} />
      </div>
      <Outages site={site} outages={measured?.outages ?? []} />
    </div>
  );
}

const parts = new WeakMap<Request[], Map<string, Request[]>>();
/** The requests of a line: the same list for the same plan, so that what shows it is not drawn again. */
function ofLine(requests: Request[], line: string) {
  const known = parts.get(requests) ?? new Map<string, Request[]>();
  parts.set(requests, known);
  const part = known.get(line) ?? requests.filter((r) => r.line === line);
  known.set(line, part);
  return part;
}

/** The oldest that a value of the fastest pace can get. */
function oldest(requests: { paceMs: number; oldestMs: number }[]) {
  const fastest = Math.min(...requests.filter((r) => r.paceMs > 0).map((r) => r.paceMs));
  return Math.max(0, ...requests.filter((r) => r.paceMs === fastest).map((r) => r.oldestMs));
}

function Figure({
  title,
  value,
  note,
  state,
}: {
  title: string;
  value: string;
  note: string;
  state?: "fault" | "doubt" | "";
}) {
  return (
    <div className="card p-3">
      <div className="small soft truncate" title={title}>
        {title}
      </div>
      <b className={"text-[20px] " + (state === "fault" ? "text-fault" : state === "doubt" ? "text-doubt" : "")}>
        {value}
      </b>
      <div className="small soft">{note}</div>
    </div>
  );
}
