import { useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { newId, post, problemOf, useEdit, usePoints, useSite } from "../api/client";
import { useLive, useLiveState } from "../api/live";
import type { CrossingEnd, CrossingView, Problem, SiteView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { Mark, markOf, type MarkKind } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { clock, Empty, Field, FindingCard, ProblemNotice, shown } from "../shared/ui";
import { useObjectEditor } from "../shared/useObjectEditor";
import { ReleaseDialog, ReleaseOf } from "./Release";

/** Two shores: a source on the left, what happens on the way, a target on the right, live values on both. */
export function CrossingsPage() {
  const { data: site } = useSite();
  const { id } = useParams({ strict: false });
  const navigate = useNavigate();
  const { state } = useLiveState();
  const [adding, setAdding] = useState(false);
  const [releasing, setReleasing] = useState(false);
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const chosen = site.crossings.find((c) => c.id === id);
  const plant = state.mode === "plant";
  const run = (what: "start" | "stop") => attempt(() => post(`/api/run/${what}`, { links: [] }));
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <div className="flex flex-none items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
        <h2>Crossings</h2>
        <span className="small soft">
          {site.crossings.length
            ? `${site.crossings.length} from point to point · they carry while the links of both shores run`
            : ""}
        </span>
        <span className="ml-auto flex gap-2">
          <button type="button" className="button" onClick={() => setAdding(!adding)}>
            Add a crossing
          </button>
          {plant && site.crossings.length > 0 && (
            <button type="button" className="button" onClick={() => setReleasing(true)}>
              {state.released.length
                ? `Released: ${state.released.length} of ${site.crossings.length}`
                : "Release to write…"}
            </button>
          )}
          {state.running.length < site.links.length ? (
            <button type="button" className="button main" onClick={() => void run("start")}>
              Run on the {state.mode}
            </button>
          ) : (
            <button type="button" className="button" onClick={() => void run("stop")}>
              Stop the run
            </button>
          )}
        </span>
      </div>
      <ReleaseDialog site={site} open={releasing} onClose={() => setReleasing(false)} />
      <div className="flex min-h-0 flex-1">
        <div className="min-w-0 flex-1 overflow-y-auto p-4">
          {adding && (
            <NewCrossing
              site={site}
              onDone={(made) => {
                setAdding(false);
                if (made) void navigate({ to: "/crossings/$id", params: { id: made } });
              }}
            />
          )}
          {site.crossings.length === 0 && !adding && (
            <Empty title="Nothing crosses yet">
              A crossing carries one point of one device into a point of another.{" "}
              <div className="mt-3">
                <button type="button" className="button main" onClick={() => setAdding(true)}>
                  Add a crossing
                </button>
              </div>
            </Empty>
          )}
          {site.crossings.length > 0 && (
            <div className="soft small mb-1 grid grid-cols-[24px_1fr_1fr_1fr] gap-0 font-semibold">
              <span />
              <span>From</span>
              <span className="text-center">on the way</span>
              <span className="pl-6">To</span>
            </div>
          )}
          {site.crossings.map((c) => (
            <CrossingRow
              key={c.id}
              crossing={c}
              chosen={c.id === id}
              onClick={() => void navigate({ to: "/crossings/$id", params: { id: c.id } })}
            />
          ))}
        </div>
        {chosen && <CrossingPanel key={chosen.id} site={site} crossing={chosen} />}
      </div>
    </div>
  );
}

function useCrossingState(crossing: CrossingView): { kind: MarkKind; words: string } {
  const { crossings, findings } = useLiveState();
  const state = crossings[crossing.id];
  const finding = findings.find((f) => f.subject.kind === "crossing" && f.subject.id === crossing.id);
  if (state?.state === "failed") return { kind: "fault", words: state.sentence ?? "" };
  if (finding) return { kind: markOf(finding.severity), words: finding.sentence };
  if (crossing.off) return { kind: "not-yet", words: "switched off" };
  if (state?.state === "holding") return { kind: "stale", words: state.sentence ?? "" };
  if (state?.state === "waiting") return { kind: "not-yet", words: state.sentence ?? "" };
  if (state?.state === "carrying") return { kind: "good", words: "carrying" };
  return { kind: "not-yet", words: "not run yet" };
}

function Shore({ end, id, target, chosen }: { end: CrossingEnd; id: string; target?: boolean; chosen: boolean }) {
  const live = useLive(id);
  const read = live && live.atMs > 0 && live.quality !== "bad";
  return (
    <span
      className="block min-w-0 rounded-[10px] border bg-sheet px-3 py-[6px]"
      style={{
        borderColor: "var(--rule)",
        [target ? "borderRightWidth" : "borderLeftWidth"]: 5,
        [target ? "borderRightColor" : "borderLeftColor"]: target ? "var(--tide)" : "var(--ink)",
        boxShadow: chosen ? "0 0 0 2px var(--tide)" : undefined,
      }}
    >
      <b className="block truncate" title={end.name}>
        {end.name}
      </b>
      <span className="mono flex justify-between gap-2">
        <span className="soft truncate">
          {end.type} · {end.address}
        </span>
        <span className="whitespace-nowrap" data-shore={target ? "to" : "from"}>
          {read ? (
            <span key={live.changedMs} className="fresh rounded px-1">
              {shown(live)} {end.unit}
            </span>
          ) : (
            <span className="soft">{live?.quality === "bad" ? "cannot be read" : "not read yet"}</span>
          )}
        </span>
      </span>
    </span>
  );
}

function CrossingRow({ crossing, chosen, onClick }: { crossing: CrossingView; chosen: boolean; onClick: () => void }) {
  const { kind, words } = useCrossingState(crossing);
  const line =
    kind === "fault"
      ? "2px dashed var(--fault)"
      : kind === "not-yet"
        ? "2px solid var(--notyet)"
        : "2px solid var(--ink)";
  return (
    <button
      type="button"
      onClick={onClick}
      data-crossing={crossing.id}
      data-state={kind}
      className="mb-2 grid w-full grid-cols-[24px_1fr_1fr_1fr] items-center text-left"
    >
      <Mark kind={kind} label={words} />
      <Shore end={crossing.source} id={crossing.from} chosen={chosen} />
      <span className="relative flex items-center justify-center px-1">
        <span className="absolute right-[7px] left-0" style={{ borderTop: line }} aria-hidden />
        <svg className="absolute right-0" width="9" height="12" aria-hidden>
          <path d="M0 0l9 6-9 6z" fill={kind === "fault" ? "var(--fault)" : "var(--ink)"} />
        </svg>
        <span
          className="small relative max-w-[85%] truncate rounded-full border border-rule bg-sheet px-3 py-[2px]"
          title={crossing.words}
        >
          {crossing.words}
        </span>
      </span>
      <Shore end={crossing.target} id={crossing.to} target chosen={chosen} />
    </button>
  );
}

/** A number typed for a scale or deadband; "÷ 10" and "/10" divide. */
function factor(text: string): number {
  const t = text.trim().replace(",", ".").replace("\u2212", "-");
  if (t === "") return 0;
  const divided = /^[÷/]\s*(.+)$/.exec(t);
  const n = Number(divided ? divided[1] : t.replace(/^[×x*]\s*/, ""));
  if (!Number.isFinite(n) || (divided && n === 0)) throw new Error(`“${text}” is not a number.`);
  return divided ? 1 / n : n;
}

function CrossingPanel({ site, crossing }: { site: SiteView; crossing: CrossingView }) {
  const navigate = useNavigate();
  const edit = useEdit();
  const { crossings, findings, state: live } = useLiveState();
  const version = site.versions["crossing:" + crossing.id] ?? 0;
  const editor = useObjectEditor(
    "crossing",
    crossing,
    version,
    ({ words: _w, source: _s, target: _t, ...rest }: CrossingView) => rest,
  );
  const { kind, words } = useCrossingState(crossing);
  const state = crossings[crossing.id];
  const remove = () =>
    attempt(async () => {
      await edit("removed the crossing to " + crossing.target.name, [
        { kind: "crossing", id: crossing.id, base: version, after: null },
      ]);
      say("The crossing is gone. Ctrl Z takes it back.");
      await navigate({ to: "/crossings" });
    });
  const about = `of the crossing to ${crossing.target.name}`;
  return (
    <aside className="panel" aria-label="Crossing">
      <div className="small soft">Crossing</div>
      <h2 className="mb-3 break-words">
        {crossing.source.name} → {crossing.target.name}
      </h2>
      <div
        className={
          "notice mb-3 " +
          (kind === "good" ? "good" : kind === "fault" ? "" : kind === "stale" || kind === "doubt" ? "doubt" : "note")
        }
      >
        {words}
        {state && state.count > 0 && (
          <>
            {" "}
            · written {state.count}×, last <span className="mono">{state.written}</span> at{" "}
            <span className="mono">{clock(state.atMs)}</span>
          </>
        )}
      </div>
      {live.mode === "plant" && <ReleaseOf crossing={crossing} />}
      {findings
        .filter((f) => f.subject.kind === "crossing" && f.subject.id === crossing.id)
        .map((f) => (
          <FindingCard key={f.code} finding={f} chosen />
        ))}
      <Field
        label="Scale"
        mono
        value={crossing.factor ? String(crossing.factor) : ""}
        placeholder="× 1"
        onBegin={editor.begin}
        onCommit={async (text) => editor.commit(`changed the scale ${about}`, { factor: factor(text) })}
      />
      <Field
        label="Offset"
        mono
        value={crossing.offset ? String(crossing.offset) : ""}
        placeholder="0"
        onBegin={editor.begin}
        onCommit={async (text) => editor.commit(`changed the offset ${about}`, { offset: factor(text) })}
      />
      <Field
        label="Moves by"
        unit={crossing.target.unit || undefined}
        mono
        value={crossing.deadband ? String(crossing.deadband) : ""}
        placeholder="any change"
        onBegin={editor.begin}
        onCommit={async (text) => editor.commit(`changed the deadband ${about}`, { deadband: factor(text) })}
      />
      <Field
        label="Carries"
        value={crossing.off ? "off" : "on"}
        options={[
          { value: "on", title: "yes" },
          { value: "off", title: "no, switched off" },
        ]}
        onBegin={editor.begin}
        onCommit={(text) =>
          editor.commit(`switched the crossing to ${crossing.target.name} ${text}`, { off: text === "off" })
        }
      />
      <Field
        label="Remark"
        value={crossing.remark ?? ""}
        onBegin={editor.begin}
        onCommit={(text) => editor.commit(`changed the remark ${about}`, { remark: text })}
      />
      <p className="small soft mt-3">
        The target becomes the source × scale + offset, in the target’s own unit, and is written when it differs by the
        deadband or more from what was written last. While the source has no good value, the target keeps its last one.
        On the plant a crossing writes nothing until it is released by name.
      </p>
      <button type="button" className="button danger mt-5" onClick={() => void remove()}>
        Remove the crossing
      </button>
    </aside>
  );
}

function PointChoice({
  site,
  label,
  point,
  onPoint,
  writable,
}: {
  site: SiteView;
  label: string;
  point: string;
  onPoint: (id: string) => void;
  writable?: boolean;
}) {
  const [chosen, setChosen] = useState(""); // a device, and one of its maps where it has several
  const [device, map] = chosen.split("|");
  const { data } = usePoints(device || undefined, map);
  const access = data?.columns.indexOf("access") ?? -1;
  return (
    <span className="flex min-w-0 flex-1 flex-col gap-1">
      <span className="small soft font-semibold">{label}</span>
      <select
        className="input"
        aria-label={`${label}: device`}
        value={chosen}
        onChange={(e) => {
          setChosen(e.target.value);
          onPoint("");
        }}
      >
        <option value="">device…</option>
        {site.devices
          .filter((d) => d.pointCount > 0)
          .flatMap((d) =>
            d.maps.map((name, i) => (
              <option key={d.id + name} value={i ? `${d.id}|${name}` : d.id} title={d.name}>
                {shortened(d.name, 36)}
                {i ? ` · ${site.protocols.find((p) => p.name === name)?.title ?? name}` : ""}
              </option>
            )),
          )}
      </select>
      <select
        className="input"
        aria-label={`${label}: point`}
        value={point}
        disabled={!data}
        onChange={(e) => onPoint(e.target.value)}
      >
        <option value="">point…</option>
        {data?.rows
          .filter((r) => !writable || r.cells[access] !== "r")
          .map((r) => (
            <option key={r.id} value={r.id}>
              {r.cells[0]} · {r.cells[1]}
            </option>
          ))}
      </select>
    </span>
  );
}

function NewCrossing({ site, onDone }: { site: SiteView; onDone: (id?: string) => void }) {
  const edit = useEdit();
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const [scale, setScale] = useState("");
  const [deadband, setDeadband] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const add = async () => {
    try {
      const id = newId();
      await edit("added a crossing", [
        { kind: "crossing", id, base: 0, after: { id, from, to, factor: factor(scale), deadband: factor(deadband) } },
      ]);
      onDone(id);
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <section className="card mb-4 p-3" aria-label="New crossing">
      <div className="flex items-start gap-3">
        <PointChoice site={site} label="From" point={from} onPoint={setFrom} />
        <span className="flex w-[150px] flex-col gap-1">
          <span className="small soft font-semibold">on the way</span>
          <input
            className="input mono"
            aria-label="Scale"
            placeholder="scale, × 1"
            value={scale}
            onChange={(e) => setScale(e.target.value)}
          />
          <input
            className="input mono"
            aria-label="Deadband"
            placeholder="moves by"
            value={deadband}
            onChange={(e) => setDeadband(e.target.value)}
          />
        </span>
        <PointChoice site={site} label="To" point={to} onPoint={setTo} writable />
      </div>
      {problem && <ProblemNotice problem={problem} />}
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="button" onClick={() => onDone()}>
          Give up
        </button>
        <button type="button" className="button main" disabled={!from || !to} onClick={() => void add()}>
          Carry it across
        </button>
      </div>
    </section>
  );
}
