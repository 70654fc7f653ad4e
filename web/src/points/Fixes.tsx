import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post, problemOf, mapPath } from "../api/client";
import type { Finding, Fix, PointsView, Problem } from "../api/types.gen";
import { Mark, markOf } from "../shared/Mark";
import { say } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";
import { titles } from "./Grid";

const most = 8;

/** Ways of putting something right: each shows what it would change before it changes it. */
export function Fixes({
  points,
  fixes,
  what,
  onDone,
}: {
  points: PointsView;
  fixes: Fix[];
  what: string;
  onDone?: () => void;
}) {
  const client = useQueryClient();
  const [open, setOpen] = useState<Fix>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const apply = async (fix: Fix) => {
    setBusy(true);
    setProblem(undefined);
    try {
      const versions = new Map(points.rows.map((r) => [r.id, r.version]));
      await post(mapPath(points, "cells"), {
        what: `${what}: ${fix.title}`,
        cells: fix.cells.map((c) => ({
          point: c.point,
          column: c.column,
          text: c.will,
          base: versions.get(c.point) ?? 0,
        })),
      });
      await client.invalidateQueries({ queryKey: ["points", points.device] });
      say(`Done: ${fix.title}. Ctrl Z takes it back.`);
      setOpen(undefined);
      onDone?.();
    } catch (error) {
      setProblem(problemOf(error));
    }
    setBusy(false);
  };
  // After a change the offers are new ones.
  const shown = open && fixes.find((f) => f.title === open.title);
  return (
    <div>
      <div className="mt-1 flex flex-wrap gap-1">
        {fixes.map((fix) => (
          <button
            key={fix.title}
            type="button"
            aria-expanded={shown === fix}
            className="button tight"
            onClick={() => setOpen(shown === fix ? undefined : fix)}
          >
            {fix.title}
          </button>
        ))}
      </div>
      {shown && (
        <div className="card mt-2 p-2" data-testid="fix-preview">
          <table className="rows small">
            <thead>
              <tr>
                <th>Point</th>
                <th>Column</th>
                <th>Now</th>
                <th>Then</th>
              </tr>
            </thead>
            <tbody>
              {shown.cells.slice(0, most).map((c) => (
                <tr key={c.point + c.column}>
                  <td className="break-words">{c.name}</td>
                  <td>{titles[c.column] ?? c.column}</td>
                  <td className="mono">{c.was || "–"}</td>
                  <td className="mono font-semibold">{c.will || "–"}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {shown.cells.length > most && <p className="small soft mt-1">and {shown.cells.length - most} more cells</p>}
          {problem && <ProblemNotice problem={problem} />}
          <button type="button" className="button main mt-2" disabled={busy} onClick={() => void apply(shown)}>
            Apply
          </button>
        </div>
      )}
    </div>
  );
}

/** One finding of a map with the ways of putting it right. */
export function MapFinding({ points, finding }: { points: PointsView; finding: Finding }) {
  return (
    <div className="mb-2 flex gap-2" data-finding={finding.code}>
      <Mark kind={markOf(finding.severity)} size={16} />
      <div className="min-w-0 flex-1">
        <div className="break-words">
          <b>{finding.title}.</b> {finding.sentence}
        </div>
        {finding.remedy && <div className="small soft">{finding.remedy}</div>}
        {finding.evidence.slice(0, 12).map((line) => (
          <div key={line} className="mono soft break-words">
            {line}
          </div>
        ))}
        {!!finding.fixes?.length && <Fixes points={points} fixes={finding.fixes} what={finding.title} />}
      </div>
    </div>
  );
}
