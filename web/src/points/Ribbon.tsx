import { useState } from "react";
import type { PointRow, PointsView } from "../api/types.gen";

/** The address space of one area, drawn to scale: points, gaps, overlaps, and under it the requests that read it. */
export function Ribbon({ points, chosen, onChoose }: { points: PointsView; chosen?: string; onChoose: (id: string) => void }) {
  const used = points.areas.filter((a) => points.rows.some((r) => r.area === a.key));
  const chosenArea = points.rows.find((r) => r.id === chosen)?.area;
  const [picked, setPicked] = useState<string>();
  const area = used.find((a) => a.key === (picked ?? chosenArea)) ?? used[0];
  const [lastChosen, setLastChosen] = useState(chosen);
  if (lastChosen !== chosen) {
    setLastChosen(chosen);
    setPicked(undefined);
  }
  if (!area) return <div className="h-[84px]" />;
  const rows = points.rows.filter((r) => r.area === area.key);
  const from = Math.max(0, rows.reduce((n, r) => Math.min(n, r.start), Infinity) - 1);
  const to = rows.reduce((n, r) => Math.max(n, r.start + r.units), 0) + 2;
  const span = Math.max(to - from, 16);
  const width = 1000;
  const x = (unit: number) => ((unit - from) / span) * width;
  const clash = new Set(points.findings.filter((f) => f.code === "overlap").map((f) => f.subject.id));
  // A bit shares its register with the word; only the word is drawn.
  const drawn = rows.filter((r) => !(r.cells[points.columns.indexOf("type")] === "bool" && area.unitBits > 1 && rows.some((o) => o !== r && covers(o, r))));
  const visible = drawn.length > 1500 ? drawn.filter((_, i) => i % Math.ceil(drawn.length / 1500) === 0) : drawn;
  const step = [1, 2, 4, 5, 8, 10, 16, 20, 25, 50, 100, 200, 500, 1000, 2000, 5000, 10000].find((n) => span / n <= 14) ?? 20000;
  const ticks: number[] = [];
  for (let unit = Math.ceil(from / step) * step; unit < from + span; unit += step) ticks.push(unit);
  const digit = { co: "0", di: "1", ir: "3", hr: "4" }[area.key];
  const label = (unit: number) => (digit !== undefined && unit < 9999 ? digit + String(unit + 1).padStart(4, "0") : String(unit));
  return (
    <div className="relative mt-1 select-none">
      {used.length > 1 && (
        <div className="mb-1 flex gap-1" role="group" aria-label="Area">
          {used.map((a) => (
            <button key={a.key} type="button" aria-pressed={a === area} onClick={() => setPicked(a.key)} className="small rounded px-2" style={a === area ? { background: "var(--tide-wash)", fontWeight: 700 } : undefined}>{a.title}</button>
          ))}
        </div>
      )}
      <div className="relative h-[17px]" aria-hidden>
        {ticks.map((unit) => <span key={unit} className="mono soft absolute !text-[12px]" style={{ left: `${(x(unit) / width) * 100}%` }}>{label(unit)}</span>)}
      </div>
      <div className="relative h-[30px] rounded bg-band">
        {visible.map((r) => {
          const on = r.id === chosen;
          return (
            <button key={r.id} type="button" title={`${r.cells[0]} · ${r.cells[1]}`} onClick={() => onChoose(r.id)} tabIndex={-1}
              className="small absolute top-0 h-full overflow-hidden rounded-[3px] px-[3px] text-left whitespace-nowrap"
              style={{
                left: `${(x(r.start) / width) * 100}%`, width: `calc(${(r.units / span) * 100}% - 1px)`, minWidth: 2,
                background: clash.has(r.id) ? "var(--fault)" : on ? "var(--tide)" : "var(--tide-soft)",
                color: clash.has(r.id) || on ? "var(--sheet)" : "var(--ink)", top: clash.has(r.id) ? 6 : 0, opacity: clash.has(r.id) ? 0.92 : 1, zIndex: clash.has(r.id) || on ? 1 : 0,
              }}>
              {r.units / span > 0.008 && r.cells[0]}
            </button>
          );
        })}
      </div>
      <div className="relative h-[30px]">
        {points.requests.filter((q) => q.area === area.key).map((q) => (
          <span key={q.id} className="small absolute top-[3px] overflow-hidden border-t-2 border-ink pt-[2px] whitespace-nowrap" title={q.operation}
            style={{ left: `${(x(q.start) / width) * 100}%`, width: `${(q.count / span) * 100}%`, borderLeft: "2px solid var(--ink)", borderRight: "2px solid var(--ink)", paddingLeft: 4, height: 22, clipPath: "inset(0)" }}>
            read {q.count}{q.unused ? ` · ${q.unused} unused` : ""}
          </span>
        ))}
      </div>
    </div>
  );
}

const covers = (o: PointRow, r: PointRow) => o.start <= r.start && o.start + o.units >= r.start + r.units && !o.cells[1]?.includes(".");
