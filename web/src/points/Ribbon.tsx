import { memo, useMemo, useRef, useState, type PointerEvent } from "react";
import type { PointRow, PointsView } from "../api/types.gen";

interface Range {
  from: number;
  span: number;
}

/** More blocks than this are drawn as runs of used registers. */
const mostBlocks = 400;

/**
 * The address space of one area, drawn to scale: points, gaps, overlaps, and under it the requests
 * that read it. The wheel with Ctrl zooms, the wheel and dragging move, 0 shows everything.
 */
export const Ribbon = memo(function Ribbon({
  points,
  chosen,
  onChoose,
}: {
  points: PointsView;
  chosen?: string;
  onChoose: (id: string) => void;
}) {
  const used = useMemo(() => {
    const keys = new Set(points.rows.map((r) => r.area));
    return points.areas.filter((a) => keys.has(a.key));
  }, [points]);
  const chosenRow = useMemo(() => points.rows.find((r) => r.id === chosen), [points, chosen]);
  const [picked, setPicked] = useState<string>();
  const area = used.find((a) => a.key === (picked ?? chosenRow?.area)) ?? used[0];
  const [view, setView] = useState<Range>();
  const [lastChosen, setLastChosen] = useState(chosen);
  const track = useRef<HTMLDivElement>(null);
  const drag = useRef<{ x: number; from: number; moved: boolean }>(undefined);

  const rows = useMemo(
    () =>
      points.rows
        .filter((r) => r.area === area?.key && r.units > 0)
        .sort((a, b) => a.start - b.start || b.units - a.units),
    [points, area],
  );
  const clash = useMemo(
    () => new Set(points.findings.filter((f) => f.code === "overlap").map((f) => f.subject.id)),
    [points.findings],
  );
  const widest = useMemo(() => rows.reduce((n, r) => Math.max(n, r.units), 1), [rows]);
  const first = Math.max(0, (rows[0]?.start ?? 0) - 1);
  const extent = points.extents?.find((e) => e.area === area?.key);
  const end = useMemo(
    () => Math.max(rows.reduce((n, r) => Math.max(n, r.start + r.units), 0) + 2, extent?.size ?? 0),
    [rows, extent],
  );
  const all: Range = { from: first, span: Math.max(end - first, 16) };
  const { from, span } = view ?? all;
  if (lastChosen !== chosen) {
    setLastChosen(chosen);
    setPicked(undefined);
    // A point chosen elsewhere comes into view.
    if (view && chosenRow && (chosenRow.start < view.from || chosenRow.start + chosenRow.units > view.from + view.span))
      setView({ ...view, from: Math.max(0, chosenRow.start - view.span / 2) });
  }
  if (!area) return <div className="h-[84px]" />;

  const zoom = (factor: number, around = 0.5) => {
    const next = Math.min(all.span * 1.2, Math.max(8, span * factor));
    const at = from + span * around;
    setView(next >= all.span ? undefined : { from: Math.max(0, at - next * around), span: next });
  };
  const pan = (units: number) => setView({ from: Math.max(0, Math.min(end - span / 2, from + units)), span });
  const percent = (unit: number) => ((unit - from) / span) * 100;
  const visible = rows
    .slice(lower(rows, from - widest), lower(rows, from + span))
    .filter((r) => r.start + r.units > from);
  // A part of a word shares its register with the word; only the word is drawn.
  const address = points.columns.indexOf("address");
  const dense = visible.length > mostBlocks;
  const whole = dense
    ? []
    : visible.filter(
        (r) =>
          !(
            area.unitBits > 1 &&
            (r.cells[address] ?? "").includes(".") &&
            visible.some(
              (o) =>
                o !== r &&
                o.start <= r.start &&
                o.start + o.units >= r.start + r.units &&
                !(o.cells[address] ?? "").includes("."),
            )
          ),
      );
  const type = points.columns.indexOf("type");
  /** Where a row is drawn: a part of a word takes its share of it, the high bits on the left. */
  const place = (r: PointRow): { start: number; units: number } => {
    const bit = area.unitBits > 1 ? (r.cells[address] ?? "").split(".")[1] : undefined;
    if (bit === undefined) return { start: r.start, units: r.units };
    const kind = r.cells[type] ?? "";
    const width = kind.startsWith("bits ") ? Number(kind.slice(5)) : kind.endsWith("int8") ? 8 : 1;
    return { start: r.start + (area.unitBits - Number(bit) - width) / area.unitBits, units: width / area.unitBits };
  };
  const blocks = dense ? [] : whole;
  const runs = dense ? merged(visible, span / 1000) : [];
  const requests = points.requests.filter(
    (q) => q.area === area.key && q.start < from + span && q.start + q.count > from,
  );
  const step =
    [1, 2, 4, 5, 8, 10, 16, 20, 25, 50, 100, 200, 500, 1000, 2000, 5000, 10000].find((n) => span / n <= 14) ?? 20000;
  const ticks: number[] = [];
  for (let unit = Math.ceil(from / step) * step; unit < from + span; unit += step) ticks.push(unit);
  const label = (unit: number) =>
    area.digit && unit < 9999 ? area.digit + String(unit + 1).padStart(4, "0") : String(unit);

  const onMove = (e: PointerEvent) => {
    const d = drag.current;
    if (!d || !track.current) return;
    if (Math.abs(e.clientX - d.x) > 3) d.moved = true;
    if (d.moved) setView({ from: Math.max(0, d.from - ((e.clientX - d.x) / track.current.clientWidth) * span), span });
  };
  return (
    <div className="relative mt-1 select-none" data-testid="ribbon">
      <div className="mb-1 flex items-center gap-1">
        <div className="flex gap-1" role="group" aria-label="Area">
          {used.map((a) => (
            <button
              key={a.key}
              type="button"
              aria-pressed={a === area}
              onClick={() => {
                setPicked(a.key);
                setView(undefined);
              }}
              className="small rounded px-2"
              style={a === area ? { background: "var(--tide-wash)", fontWeight: 700 } : undefined}
            >
              {a.title}
            </button>
          ))}
        </div>
        <span className="ml-auto flex gap-1" role="group" aria-label="Zoom">
          <button type="button" className="button tight" aria-label="Zoom out" disabled={!view} onClick={() => zoom(2)}>
            −
          </button>
          <button
            type="button"
            className="button tight"
            aria-label="Zoom in"
            disabled={span <= 8}
            onClick={() =>
              zoom(
                0.5,
                chosenRow && chosenRow.area === area.key
                  ? Math.min(1, Math.max(0, (chosenRow.start - from) / span))
                  : 0.5,
              )
            }
          >
            +
          </button>
          <button type="button" className="button tight" disabled={!view} onClick={() => setView(undefined)}>
            All
          </button>
        </span>
      </div>
      <div
        ref={track}
        style={{ cursor: view ? "grab" : undefined, touchAction: "none" }}
        onWheel={(e) => {
          const box = e.currentTarget.getBoundingClientRect();
          if (e.ctrlKey || e.metaKey) zoom(e.deltaY > 0 ? 1.25 : 0.8, (e.clientX - box.left) / box.width);
          else if (view) pan(((e.deltaX || e.deltaY) / box.width) * span);
        }}
        onPointerDown={(e) => {
          drag.current = { x: e.clientX, from, moved: false };
        }}
        onPointerMove={onMove}
        onPointerUp={() =>
          setTimeout(() => {
            drag.current = undefined;
          })
        }
        onPointerLeave={() => {
          drag.current = undefined;
        }}
      >
        <div className="relative h-[17px] overflow-hidden" aria-hidden>
          {ticks.map((unit) => (
            <span key={unit} className="mono soft absolute !text-[12px]" style={{ left: `${percent(unit)}%` }}>
              {label(unit)}
            </span>
          ))}
        </div>
        <div className="relative h-[30px] overflow-hidden rounded bg-band">
          {extent && extent.size > extent.carried && (
            <span
              className="small soft absolute top-0 h-full overflow-hidden px-[4px] pt-[5px] whitespace-nowrap"
              data-testid="reserve"
              title={`octets ${extent.carried} to ${extent.size - 1} are kept in reserve: they are not exchanged`}
              style={{
                left: `${percent(extent.carried)}%`,
                width: `${((extent.size - extent.carried) / span) * 100}%`,
                background: "repeating-linear-gradient(135deg, var(--rule) 0 1px, transparent 1px 7px)",
              }}
            >
              reserve
            </span>
          )}
          {runs.map((run) => (
            <span
              key={run.from}
              className="absolute top-0 h-full"
              style={{
                left: `${percent(run.from)}%`,
                width: `max(1px, ${((run.to - run.from) / span) * 100}%)`,
                background: "var(--tide-soft)",
              }}
              title={`${run.count} points`}
            />
          ))}
          {dense && chosenRow?.area === area.key && (
            <span
              className="absolute top-0 h-full"
              style={{
                left: `${percent(chosenRow.start)}%`,
                width: `max(3px, ${(chosenRow.units / span) * 100}%)`,
                background: "var(--tide)",
              }}
            />
          )}
          {blocks.map((r) => {
            const on = r.id === chosen;
            const bad = clash.has(r.id);
            const at = place(r);
            return (
              <button
                key={r.id}
                type="button"
                title={`${r.cells[0]} · ${r.cells[1]}`}
                onClick={() => {
                  if (!drag.current?.moved) onChoose(r.id);
                }}
                tabIndex={-1}
                className="small absolute h-full overflow-hidden rounded-[3px] px-[3px] text-left whitespace-nowrap"
                style={{
                  left: `${percent(at.start)}%`,
                  width: `calc(${(at.units / span) * 100}% - 1px)`,
                  minWidth: 2,
                  background: bad ? "var(--fault)" : on ? "var(--tide)" : "var(--tide-soft)",
                  color: bad || on ? "var(--sheet)" : "var(--ink)",
                  top: bad ? 6 : 0,
                  opacity: bad ? 0.92 : 1,
                  zIndex: bad || on ? 1 : 0,
                }}
              >
                {at.units / span > 0.008 && r.cells[0]}
              </button>
            );
          })}
        </div>
        <div className="relative h-[28px] overflow-hidden">
          {extent && extent.carried > 0 && (
            <span
              className="small absolute top-[3px] h-[22px] overflow-hidden border-t-2 border-r-2 border-l-2 border-ink pt-[2px] pl-[4px] whitespace-nowrap"
              style={{ left: `${percent(0)}%`, width: `${(extent.carried / span) * 100}%`, clipPath: "inset(0)" }}
            >
              {extent.carried} octets exchanged
            </span>
          )}
          {requests.slice(0, mostBlocks).map((q) => (
            <span
              key={q.id}
              className="small absolute top-[3px] overflow-hidden border-t-2 border-ink pt-[2px] whitespace-nowrap"
              title={q.operation}
              style={{
                left: `${percent(q.start)}%`,
                width: `max(3px, ${(q.count / span) * 100}%)`,
                borderLeft: "2px solid var(--ink)",
                borderRight: "2px solid var(--ink)",
                paddingLeft: 4,
                height: 22,
                clipPath: "inset(0)",
              }}
            >
              {q.count / span > 0.05 && (
                <>
                  read {q.count}
                  {q.unused ? ` · ${q.unused} unused` : ""}
                </>
              )}
            </span>
          ))}
        </div>
      </div>
    </div>
  );
});

/** The first row that starts at or after a unit. */
function lower(rows: PointRow[], unit: number): number {
  let low = 0;
  let high = rows.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((rows[middle]?.start ?? 0) < unit) low = middle + 1;
    else high = middle;
  }
  return low;
}

/** Joins rows into runs where the gap between them is too small to be seen. */
function merged(rows: PointRow[], gap: number): { from: number; to: number; count: number }[] {
  const runs: { from: number; to: number; count: number }[] = [];
  for (const r of rows) {
    const last = runs.at(-1);
    if (last && r.start <= last.to + gap) {
      last.to = Math.max(last.to, r.start + r.units);
      last.count++;
    } else runs.push({ from: r.start, to: r.start + r.units, count: 1 });
  }
  return runs;
}
