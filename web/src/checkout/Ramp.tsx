import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post, problemOf } from "../api/client";
import { nameOf } from "../api/site";
import type {
  Problem,
  ProofRequest,
  ProvingPoint,
  RampReadView,
  RampRequest,
  RampRow,
  RampStepRead,
  RampView,
  RecordedView,
  SiteView,
} from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { PointPick } from "../shared/PointPick";
import { say } from "../shared/toast";
import { usePointName } from "../shared/usePointName";
import { ProblemNotice } from "../shared/ui";

/** Many at once: one source, such as a calibrator or a bath that all probes hang in, is taken through several steps,
 *  and each point has to follow. */
export function Ramp({ site, device, points }: { site: SiteView; device: string; points: ProvingPoint[] }) {
  const client = useQueryClient();
  const [chosen, setChosen] = useState<string[]>([]);
  const [steps, setSteps] = useState<RampStepRead[]>([]);
  const [typed, setTyped] = useState("");
  const [rows, setRows] = useState<RampRow[]>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const numbers = points.filter((p) => !p.twoState && !p.names?.length && !/^text|^bytes/.test(p.type));
  const guarded = async (work: () => Promise<void>) => {
    setProblem(undefined);
    setBusy(true);
    try {
      await work();
    } catch (error) {
      setProblem(problemOf(error));
    }
    setBusy(false);
  };
  const judge = async (list: RampStepRead[]) => {
    setSteps(list);
    setRows(
      list.length < 3
        ? undefined
        : (await post<RampView>("/api/checkout/ramp", { steps: list } satisfies RampRequest)).rows,
    );
  };
  const step = () =>
    guarded(async () => {
      const { reads } = await post<RampReadView>("/api/checkout/ramp/read", { points: chosen });
      await judge([...steps, { shown: typed.trim(), reads }]);
      setTyped("");
    });
  const choose = (list: string[]) => {
    setChosen(list);
    setSteps([]);
    setRows(undefined);
  };
  const last = steps.at(-1);
  const keep = (list: RampRow[], result: ProofRequest["result"]) =>
    guarded(async () => {
      for (const row of list) {
        const read = last?.reads.find((r) => r.point === row.point);
        await post<RecordedView>("/api/checkout", {
          result,
          method: "ramped",
          remark: `${row.verdict.says}: ${steps.map((s, i) => `${s.shown} read ${row.verdict.steps[i]}`).join(", ")}`,
          points: [{ point: row.point, shown: last?.shown, read: read?.read, readAtMs: read?.readAtMs }],
        } satisfies ProofRequest);
      }
      await client.invalidateQueries({ queryKey: ["checkout"] });
      say(`${list.length} kept as ${result}.`);
      setRows(rows?.filter((r) => !list.includes(r)));
    });
  const right = rows?.filter((r) => !r.why && r.verdict.agrees) ?? [];
  const wrong = rows?.filter((r) => !r.why && !r.verdict.agrees) ?? [];
  return (
    <details className="mt-2">
      <summary className="font-semibold">Many at once: a ramp through several points</summary>
      <p className="small soft mt-1">
        Take one source through three steps or more: a calibrator, or a bath that all probes hang in. At each step type
        what it shows once it stands still; each point is then read anew.
      </p>
      <div className="mt-1 flex flex-wrap gap-x-4">
        {numbers.map((p) => (
          <label key={p.point} className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={chosen.includes(p.point)}
              onChange={() =>
                choose(chosen.includes(p.point) ? chosen.filter((c) => c !== p.point) : [...chosen, p.point])
              }
            />
            {p.name}
          </label>
        ))}
      </div>
      {chosen
        .filter((id) => !points.some((p) => p.point === id))
        .map((id) => (
          <Elsewhere key={id} site={site} id={id} onDrop={() => choose(chosen.filter((c) => c !== id))} />
        ))}
      <PointPick
        label="Point elsewhere"
        name=""
        none={`beside those of ${nameOf(site, device)}…`}
        onPick={(id) => {
          if (id && !chosen.includes(id)) choose([...chosen, id]);
          return Promise.resolve();
        }}
      />
      <form
        className="mt-1 flex items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (typed.trim() && chosen.length) void step();
        }}
      >
        <input
          className="input mono !w-[180px]"
          aria-label="The source shows"
          placeholder="the source shows"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <button type="submit" className="button" disabled={busy || !typed.trim() || chosen.length === 0}>
          {busy ? "Reading…" : `Read step ${steps.length + 1}`}
        </button>
        {steps.length > 0 && (
          <button type="button" className="button" onClick={() => void guarded(() => judge(steps.slice(0, -1)))}>
            Drop the last step
          </button>
        )}
      </form>
      {problem && <ProblemNotice problem={problem} />}
      {steps.length > 0 && (
        <table className="rows mt-2" aria-label="The ramp">
          <thead>
            <tr>
              <th>Point</th>
              {steps.map((s, i) => (
                <th key={i} className="num">
                  {s.shown}
                </th>
              ))}
              <th>
                <span className="sr-only">Right</span>
              </th>
              <th>In words</th>
            </tr>
          </thead>
          <tbody>
            {steps[0]?.reads.map((first) => {
              const row = rows?.find((r) => r.point === first.point);
              return (
                <tr key={first.point} data-ramped={row && !row.why ? row.verdict.agrees : undefined}>
                  <td>
                    <Name site={site} id={first.point} />
                  </td>
                  {steps.map((s, i) => (
                    <td key={i} className="num">
                      {s.reads.find((r) => r.point === first.point)?.read}
                    </td>
                  ))}
                  <td>
                    {row && <Mark kind={row.why ? "not-yet" : row.verdict.agrees ? "good" : "fault"} size={14} />}
                  </td>
                  <td className="small">{row ? row.why || row.verdict.says : first.why}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        {right.length > 0 && (
          <button type="button" className="button main" onClick={() => void keep(right, "right")}>
            Keep the {right.length} that followed as right
          </button>
        )}
        {wrong.length > 0 && (
          <button type="button" className="button" onClick={() => void keep(wrong, "wrong")}>
            Keep the {wrong.length} that did not as wrong
          </button>
        )}
      </div>
    </details>
  );
}

function Name({ site, id }: { site: SiteView; id: string }) {
  return <>{usePointName(site, id)}</>;
}

function Elsewhere({ site, id, onDrop }: { site: SiteView; id: string; onDrop: () => void }) {
  const name = usePointName(site, id);
  return (
    <label className="flex items-center gap-2">
      <input type="checkbox" checked onChange={onDrop} aria-label={`Leave ${name} out`} />
      {name}
    </label>
  );
}
