import { Link, useNavigate } from "@tanstack/react-router";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { get, post, useEdit } from "../api/client";
import { useLiveState } from "../api/live";
import { useState } from "react";
import type { CrossingView, JudgedView, NotedView, ProvedView, SiteView } from "../api/types.gen";
import { whole } from "../shared/numbers";
import { Mark } from "../shared/Mark";
import { Given } from "../shared/Given";
import { PointPick } from "../shared/PointPick";
import { attempt, say } from "../shared/toast";
import { clock, Field, FindingCard, millis } from "../shared/ui";
import { useObjectEditor } from "../shared/useObjectEditor";
import { DryRun } from "./DryRun";
import { ReleaseOf } from "./Release";
import { bare, deadbandText, factor, readDeadband } from "./rules";
import { readSpan, spanText } from "../shared/spans";
import { Steps } from "./Steps";
import { useCrossingState } from "./state";

/** One crossing: what is said of it, what happens on the way, when, and what if the source is silent. */
export function CrossingPanel({ site, crossing }: { site: SiteView; crossing: CrossingView }) {
  const navigate = useNavigate();
  const edit = useEdit();
  const { state: live } = useLiveState();
  const version = site.versions["crossing:" + crossing.id] ?? 0;
  const editor = useObjectEditor("crossing", crossing, version, bare);
  const { kind, words } = useCrossingState(crossing);
  const about = `of the crossing to ${crossing.target.name}`;
  const set = (what: string, patch: Partial<CrossingView>) => editor.commit(`${what} ${about}`, patch);
  const remove = () =>
    attempt(async () => {
      await edit("removed the crossing to " + crossing.target.name, [
        { kind: "crossing", id: crossing.id, base: version, after: null },
      ]);
      say("The crossing is gone. Ctrl Z takes it back.");
      await navigate({ to: "/crossings" });
    });
  const span = (
    label: string,
    key: "atLeastMs" | "atMostMs" | "paceMs" | "quietMs" | "allowMs" | "beatMs",
    placeholder: string,
    help?: string,
  ) => (
    <Field
      label={label}
      mono
      value={spanText(crossing[key])}
      placeholder={placeholder}
      help={help}
      onBegin={editor.begin}
      onCommit={async (text) => set("changed the times", { [key]: readSpan(text) })}
    />
  );
  const choice = <K extends "start" | "both" | "quiet" | "tells">(
    label: string,
    key: K,
    options: Record<string, string>,
  ) => (
    <Field
      label={label}
      value={crossing[key] ?? ""}
      options={Object.entries(options).map(([value, title]) => ({ value, title }))}
      onBegin={editor.begin}
      onCommit={(text) => set("changed the rules", { [key]: text || undefined })}
    />
  );
  const more = crossing.more ?? [];
  const enabling = (
    <PointPick
      label="Only while"
      name={crossing.enableName ?? ""}
      none="always"
      help="A point that must be on for it to carry."
      onBegin={editor.begin}
      onPick={(id) => set("changed what enables it", { enable: id || undefined })}
    />
  );
  const listed = site.lists.find((l) => l.id === crossing.list);
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
      </div>
      {listed && (
        <p className="small mb-3">
          A name of the list{" "}
          <Link to="/crossings/lists/$list" params={{ list: listed.id }} className="underline">
            {listed.name}
          </Link>
          , which says which way it goes, who wins, and what enables it.
        </p>
      )}
      {live.mode === "plant" && <ReleaseOf crossing={crossing} />}
      <Judgement crossing={crossing} version={version} />
      <Proved crossing={crossing} />
      {site.devices.some((d) => d.id === crossing.target.device && d.serving) && (
        <section className="mt-4" aria-label="What clients were given last">
          <h3>What clients were given last</h3>
          <Given device={crossing.target.device} point={crossing.to} />
        </section>
      )}
      {!crossing.beatMs && (crossing.more?.length ?? 0) === 0 && <DryRun crossing={crossing} />}

      {crossing.beatMs ? (
        <>
          <h3 className="mt-4 mb-1">When</h3>
          {span("Counts on every", "beatMs", "1 s", "A number from 1 to 99 and again, or a state that is turned.")}
          {!listed && enabling}
        </>
      ) : (
        <>
          <h3 className="mt-4 mb-1">On the way</h3>
          <Field
            label="Scale"
            mono
            value={crossing.factor ? String(crossing.factor) : ""}
            placeholder="× 1"
            onBegin={editor.begin}
            onCommit={async (text) => set("changed the scale", { factor: factor(text) })}
          />
          <Field
            label="Offset"
            mono
            value={crossing.offset ? String(crossing.offset) : ""}
            placeholder="0"
            onBegin={editor.begin}
            onCommit={async (text) => set("changed the offset", { offset: factor(text) })}
          />
          <Steps crossing={crossing} onBegin={editor.begin} onChange={(what, way) => set(what, { way })} />
          {more.map((id, i) => (
            <PointPick
              key={id}
              label={`Source ${"bcdefghijklmnop"[i]}`}
              name={crossing.moreEnds[i]?.name ?? ""}
              none="a point"
              onBegin={editor.begin}
              onPick={(picked) =>
                set("changed the sources", {
                  more: picked ? more.map((m, j) => (j === i ? picked : m)) : more.filter((_, j) => j !== i),
                })
              }
            />
          ))}
          <PointPick
            key={"more" + more.length}
            label={`Source ${"bcdefghijklmnop"[more.length] ?? ""}`}
            name=""
            none="another source…"
            help="Formulas and packed words take several sources: the first is a."
            onBegin={editor.begin}
            onPick={(picked) => set("added a source", { more: [...more, picked] })}
          />
          {!listed &&
            choice("Carries", "both", {
              "": "one way",
              source: "both ways; in a tie the source wins",
              target: "both ways; in a tie the target wins",
              later: "both ways; in a tie the later wins",
            })}

          <h3 className="mt-4 mb-1">When</h3>
          <Field
            label="Written"
            value={crossing.round ? "round" : "moved"}
            options={[
              { value: "moved", title: "when it has moved" },
              { value: "round", title: "with each whole round of its source" },
            ]}
            help={crossing.round ? "Once all that is read with it, at its pace, has been asked for." : undefined}
            onBegin={editor.begin}
            onCommit={(text) =>
              set(
                "changed when it is written",
                text === "round"
                  ? { round: true, deadband: 0, percent: false, atLeastMs: 0, paceMs: 0, both: undefined }
                  : { round: false },
              )
            }
          />
          {!crossing.round && (
            <>
              <Field
                label="Moves by"
                unit={crossing.target.unit || undefined}
                mono
                value={deadbandText(crossing)}
                placeholder="any change"
                help="In the unit of the target; with a per cent sign, of what lies between its limits."
                onBegin={editor.begin}
                onCommit={async (text) => set("changed the deadband", readDeadband(text))}
              />
              {span("At least every", "atLeastMs", "no such rule", "Written again though nothing has moved.")}
            </>
          )}
          {span("At most every", "atMostMs", "no such rule", "Not written again before, though it has moved.")}
          {!crossing.round && span("On a pace of", "paceMs", "whenever it comes")}
          <Field
            label="Writes a day"
            mono
            value={String(crossing.perDay || "")}
            placeholder="no bound"
            help="For targets whose memory wears: it goes on the next day."
            onBegin={editor.begin}
            onCommit={(text) => set("changed how often a day it writes", { perDay: whole(text) })}
          />
          {!listed && (
            <>
              {choice("At the start", "start", {
                "": "the source wins",
                target: "the target wins",
                wait: "wait for the first good value",
              })}
              {enabling}
            </>
          )}

          <h3 className="mt-4 mb-1">While the source is not good</h3>
          {choice("The target", "quiet", {
            "": "keeps its last value",
            substitute: "is given a stated value",
            stop: "is left, and the crossing stops",
          })}
          {crossing.quiet && span("After", "quietMs", "at once")}
          {crossing.quiet === "substitute" && (
            <Field
              label="Value"
              unit={crossing.target.unit || undefined}
              mono
              value={crossing.substitute ?? ""}
              onBegin={editor.begin}
              onCommit={(text) => set("changed the value for a silent source", { substitute: text.trim() })}
            />
          )}
          {choice("Is carried", "tells", {
            "": "the value alone",
            quality: "with its time and quality",
            all: "with limits and texts too",
          })}
          <PointPick
            label="Tells quality to"
            name={crossing.qualityName ?? ""}
            none="no point"
            help="A point that is 1 while the source is good, and 0 while it is not."
            onBegin={editor.begin}
            onPick={(id) => set("changed where its quality goes", { qualityTo: id || undefined })}
          />
        </>
      )}

      <h3 className="mt-4 mb-1">Besides</h3>
      {span("May be old", "allowMs", "not stated", "How old the value may be on the far shore.")}
      <Field
        label="Switched"
        value={crossing.off ? "off" : "on"}
        options={[
          { value: "on", title: "on" },
          { value: "off", title: "off" },
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
        onCommit={(text) => set("changed the remark", { remark: text })}
      />
      <p className="small soft mt-3">
        On the plant a crossing writes nothing into a device until it is released by name. What Ferry itself holds for
        others needs no release.
      </p>
      <button type="button" className="button danger mt-5" onClick={() => void remove()}>
        Remove the crossing
      </button>
    </aside>
  );
}

/** Asks the far sides whether they have the points. */
function Proved({ crossing }: { crossing: CrossingView }) {
  const client = useQueryClient();
  const [asking, setAsking] = useState(false);
  const [proved, setProved] = useState<ProvedView>();
  const ask = () =>
    attempt(async () => {
      setAsking(true);
      try {
        setProved(await post<ProvedView>(`/api/crossings/${crossing.id}/prove`, {}));
        await client.invalidateQueries({ queryKey: ["crossing", crossing.id] });
      } finally {
        setAsking(false);
      }
    });
  return (
    <section aria-label="Are its points there?" className="mt-3">
      <button type="button" className="button tight" disabled={asking} onClick={() => void ask()}>
        {asking ? "Asking…" : "Ask whether its points are there"}
      </button>
      {proved?.ends.map((end) => (
        <p key={end.point} className="small mt-1 flex gap-2" data-proved={end.verdict}>
          <Mark
            kind={end.verdict === "there" ? "good" : end.verdict === "not heard" ? "not-yet" : "fault"}
            label={end.verdict}
          />
          <span className="min-w-0 break-words">
            {end.name}: {end.sentence}
          </span>
        </p>
      ))}
    </section>
  );
}

const stageColours = ["var(--tide)", "var(--series2)", "var(--series3)", "var(--notyet)"];

/** What is wrong with a crossing, the ways out, and how old its value gets. */
function Judgement({ crossing, version }: { crossing: CrossingView; version: number }) {
  const client = useQueryClient();
  const { data } = useQuery({
    queryKey: ["crossing", crossing.id, version],
    queryFn: () => get<JudgedView>("/api/crossings/" + crossing.id),
    refetchInterval: 1000,
    placeholderData: (before: JudgedView | undefined) => before,
  });
  const take = (title: string) =>
    attempt(async () => {
      const noted = await post<NotedView>(`/api/crossings/${crossing.id}/out`, { title });
      await client.invalidateQueries({ queryKey: ["site"] });
      say(`${noted.said} Ctrl Z takes it back.`);
    });
  if (!data) return null;
  const { state } = data;
  const allowed = crossing.allowMs ?? 0;
  const all = Math.max(data.oldestMs, allowed, 1);
  return (
    <>
      {data.findings.map((f) => (
        <FindingCard key={f.code} finding={f} chosen />
      ))}
      {data.outs.length > 0 && (
        <section aria-label="Ways to carry it">
          <h3>Ways to carry it</h3>
          <p className="small soft mb-1">ranked by what is lost</p>
          {data.outs.map((o) => (
            <button
              key={o.title}
              type="button"
              className="card mb-2 block w-full px-3 py-2 text-left"
              data-out={o.title}
              onClick={() => void take(o.title)}
            >
              <b className="block">{o.title}</b>
              <span className="small soft">{o.costs}</span>
            </button>
          ))}
        </section>
      )}
      {(data.stages.length > 0 || state.count > 0) && (
        <section aria-label="How old can it be on the far shore?">
          <h3 className="mt-3 mb-1">How old can it be on the far shore?</h3>
          {data.stages.length > 0 && (
            <div className="relative flex h-[18px]" role="presentation">
              {data.stages.map((s, i) => (
                <span
                  key={s.title}
                  title={`${s.title}, up to ${millis(s.ms)}`}
                  style={{ width: `${(100 * s.ms) / all}%`, minWidth: 3, background: stageColours[i % 4] }}
                />
              ))}
              {allowed > 0 && (
                <span
                  className="absolute top-[-3px] bottom-[-3px] border-l-2 border-fault"
                  style={{ left: `calc(${(100 * allowed) / all}% - 2px)` }}
                  title={`${spanText(allowed)} are allowed`}
                />
              )}
            </div>
          )}
          <p className="small mt-1">
            {data.stages.map((s, i) => (
              <span key={s.title} className="mr-3 whitespace-nowrap">
                <span
                  className="mr-1 inline-block h-[9px] w-[9px] rounded-[2px]"
                  style={{ background: stageColours[i % 4] }}
                />
                {s.title} <span className="mono">{millis(s.ms)}</span>
              </span>
            ))}
          </p>
          {data.oldestMs > 0 && (
            <p className="small">
              at worst <span className="mono">{millis(data.oldestMs)}</span> · usually{" "}
              <span className="mono">{millis(data.usuallyMs)}</span>
              {allowed > 0 && ` · you allow ${spanText(allowed)}`}
            </p>
          )}
          {state.count > 0 && (
            <p className="small soft min-h-[2lh]">
              measured: Ferry <span className="mono">{state.ferryMs.toFixed(2)}&thinsp;ms</span>, at worst{" "}
              <span className="mono">{millis(state.worstFerryMs)}</span> · write{" "}
              <span className="mono">{millis(state.writeMs)}</span>, at worst{" "}
              <span className="mono">{millis(state.worstWriteMs)}</span>
            </p>
          )}
        </section>
      )}
      {state.counts.read > 0 && (
        <p className="small soft mt-2 min-h-[3lh]" data-counts>
          {state.count > 0 && (
            <>
              Last written <span className="mono">{state.written}</span> at{" "}
              <span className="mono">{clock(state.atMs)}</span> ·{" "}
            </>
          )}
          {state.counts.read} read · {state.counts.carried} carried
          {state.counts.back > 0 && `, ${state.counts.back} of them back`} · {state.counts.held} held back by the
          deadband
          {state.counts.merged > 0 && ` · ${state.counts.merged} overtaken by a later one`}
          {state.counts.refused > 0 && ` · ${state.counts.refused} refused`}
          {state.counts.dropped > 0 && ` · ${state.counts.dropped} could not be carried`}
          {!!state.today && ` · target written ${state.today}× today`}
        </p>
      )}
    </>
  );
}
