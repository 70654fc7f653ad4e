import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { post, problemOf, mapPath } from "../api/client";
import type { BulkAnswer, BulkRequest, PointsView, Problem } from "../api/types.gen";
import { say } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";
import { count } from "../shared/numbers";
import { titles } from "./Grid";

/** What is done to many points: find and replace, fill down counting, copies with a shift; shown before it is done. */
export function Bulk({
  points,
  selected,
  columns,
  onClose,
}: {
  points: PointsView;
  selected: string[];
  columns: string[];
  onClose: () => void;
}) {
  const client = useQueryClient();
  const [action, setAction] = useState<BulkRequest["action"]>("replace");
  const [find, setFind] = useState("");
  const [put, setPut] = useState("");
  const [column, setColumn] = useState("");
  const [matchCase, setMatchCase] = useState(false);
  const [whole, setWhole] = useState(false);
  const [everywhere, setEverywhere] = useState(true);
  const [times, setTimes] = useState(1);
  const [shift, setShift] = useState(100);
  const [step, setStep] = useState(0);
  const [preview, setPreview] = useState<BulkAnswer>();
  const [problem, setProblem] = useState<Problem>();

  const request = (dry: boolean): BulkRequest => ({
    action,
    dry,
    points: action === "replace" && everywhere ? points.rows.map((r) => r.id) : selected,
    columns: action === "replace" ? (column ? [column] : points.columns) : columns,
    search: { find, with: put, matchCase, whole },
    step: action === "duplicate" ? shift : step,
    times,
    counting: 1,
  });
  const ready = action === "replace" ? find !== "" : selected.length > (action === "fill" ? 1 : 0);
  const key = JSON.stringify([
    action,
    find,
    put,
    column,
    matchCase,
    whole,
    everywhere,
    times,
    shift,
    step,
    everywhere ? 0 : selected,
    points.seq,
  ]);
  useEffect(() => {
    setPreview(undefined);
    setProblem(undefined);
    if (!ready) return;
    const timer = setTimeout(() => {
      post<BulkAnswer>(mapPath(points, "bulk"), request(true)).then(setPreview, (error: unknown) =>
        setProblem(problemOf(error)),
      );
    }, 250);
    return () => clearTimeout(timer);
    // The key holds all that the request is made of.
    // oxlint-disable-next-line react/exhaustive-deps
  }, [key, ready]);
  const apply = async () => {
    try {
      const done = await post<BulkAnswer>(mapPath(points, "bulk"), request(false));
      await client.invalidateQueries({ queryKey: ["points", points.device] });
      await client.invalidateQueries({ queryKey: ["site"] });
      say(
        (action === "duplicate" ? `${count(done.count, "point")} added.` : `${count(done.count, "cell")} changed.`) +
          " Ctrl Z takes it back.",
      );
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const number = (label: string, value: number, set: (n: number) => void) => (
    <label className="small flex items-center gap-1">
      <span className="soft">{label}</span>
      <input
        type="number"
        aria-label={label}
        className="input mono !w-[84px] !py-0"
        value={value}
        onChange={(e) => set(Number(e.target.value))}
      />
    </label>
  );
  return (
    <section className="flex-none border-b border-rule bg-sheet px-4 py-2" aria-label="Many points at once">
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <select
          className="input !w-auto font-semibold"
          aria-label="What to do"
          value={action}
          onChange={(e) => setAction(e.target.value as BulkRequest["action"])}
        >
          <option value="replace">Find and replace</option>
          <option value="fill">Fill the selection down, counting on</option>
          <option value="duplicate">Copy the selected points with a shift</option>
        </select>
        {action === "replace" && (
          <>
            <input
              className="input mono !w-[170px]"
              aria-label="Find"
              placeholder="find"
              value={find}
              onChange={(e) => setFind(e.target.value)}
            />
            <input
              className="input mono !w-[170px]"
              aria-label="Replace by"
              placeholder="replace by"
              value={put}
              onChange={(e) => setPut(e.target.value)}
            />
            <select
              className="input !w-auto"
              aria-label="In which column"
              value={column}
              onChange={(e) => setColumn(e.target.value)}
            >
              <option value="">in every column</option>
              {points.columns.map((c) => (
                <option key={c} value={c}>
                  in {titles[c] ?? c}
                </option>
              ))}
            </select>
            <label className="small flex items-center gap-1">
              <input type="checkbox" checked={matchCase} onChange={(e) => setMatchCase(e.target.checked)} /> match case
            </label>
            <label className="small flex items-center gap-1">
              <input type="checkbox" checked={whole} onChange={(e) => setWhole(e.target.checked)} /> whole cell
            </label>
            <label className="small flex items-center gap-1">
              <input type="checkbox" checked={!everywhere} onChange={(e) => setEverywhere(!e.target.checked)} /> only
              the {count(selected.length, "selected point")}
            </label>
          </>
        )}
        {action === "fill" && (
          <>
            <span className="small">
              {count(selected.length, "point")}, {columns.map((c) => titles[c] ?? c).join(", ")}
            </span>
            {number("address step, 0 for the width of each value", step, setStep)}
          </>
        )}
        {action === "duplicate" && (
          <>
            <span className="small">{count(selected.length, "point")}</span>
            {number("copies", times, setTimes)}
            {number("shift of each, units", shift, setShift)}
          </>
        )}
        <button type="button" className="button main ml-auto" disabled={!preview?.count} onClick={() => void apply()}>
          {action === "duplicate"
            ? `Add ${count(preview?.count ?? 0, "point")}`
            : `Change ${count(preview?.count ?? 0, "cell")}`}
        </button>
        <button type="button" className="button" onClick={onClose}>
          Close
        </button>
      </div>
      {problem && <ProblemNotice problem={problem} />}
      {preview && (
        <p className="small soft mt-1 truncate" data-testid="bulk-preview">
          {preview.count === 0
            ? "Nothing would change."
            : preview.cells.length
              ? preview.cells
                  .slice(0, 5)
                  .map((c) => `${c.name}: ${c.was || "–"} → ${c.will || "–"}`)
                  .join("; ")
              : preview.names.slice(0, 6).join("; ")}
          {preview.count > 5 && ` and ${preview.count - 5} more`}
        </p>
      )}
      {!ready && action !== "replace" && (
        <p className="small soft mt-1">Select the points in the grid: Shift with the arrows, or drag.</p>
      )}
    </section>
  );
}
