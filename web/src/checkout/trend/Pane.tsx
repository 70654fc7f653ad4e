import { useEffect, useRef } from "react";
import uPlot from "uplot";
import type { ChartView, DrawnPen, Pen } from "../../api/types.gen";
import { axisStyle } from "../../shared/plot";
import { look, reads, second, tick } from "./series";

/** The pens of one unit over the window: steps, because a value stands until the next one comes; each sample is
 *  marked where there is room, and what is not known is hatched. */
export function Pane({
  view,
  pens,
  unit,
  shown,
  colours,
  height,
  states,
  mark,
  onZoom,
  onCursor,
  onMark,
  onWheel,
}: {
  view: ChartView;
  pens: Pen[];
  unit: string;
  shown: number[];
  colours: Map<number, number>;
  height: number;
  states: boolean;
  mark: number | undefined;
  onZoom: (fromUs: number, toUs: number) => void;
  onCursor: (atUs: number | undefined) => void;
  onMark: (atUs: number) => void;
  onWheel: (atUs: number, out: boolean) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  const now = useRef({ view, shown, mark, onZoom, onCursor, onMark, onWheel });
  now.current = { view, shown, mark, onZoom, onCursor, onMark, onWheel };
  const from = arriving(view, shown)
    .map((p) => p.pen)
    .join();
  useEffect(() => {
    const at = box.current;
    if (!at) return;
    const arrives = from === "" ? [] : from.split(",").map(Number);
    const axis = axisStyle();
    const paths = uPlot.paths.stepped?.({ align: 1 });
    const usOf = (u: uPlot, x: number) => Math.round(u.posToVal(x, "x") * second);
    const made = new uPlot(
      {
        width: at.clientWidth,
        height,
        legend: { show: false },
        padding: [6, null, 0, null],
        cursor: {
          y: false,
          points: { show: false },
          sync: { key: "trend" },
          drag: { x: true, y: false, setScale: false },
          bind: { dblclick: () => null },
        },
        axes: [
          {
            ...axis,
            size: 22,
            space: 90,
            values: (u, ticks) => ticks.map((t) => tick(t, (u.scales.x?.max ?? 0) - (u.scales.x?.min ?? 0))),
          },
          {
            ...axis,
            size: 64,
            space: 26,
            values: (_u, ticks, _axis, _space, step) =>
              ticks.map((t) => (states ? (t === 0 ? "off" : t === 1 ? "on" : "") : figure(t, step))),
          },
        ],
        series: [
          {},
          ...shown.map((n): uPlot.Series => {
            const { colour, dash } = look(colours.get(n) ?? 0);
            return { stroke: colour, width: 1.5, dash, points: { show: false }, paths, spanGaps: false };
          }),
          ...arrives.map((n): uPlot.Series => {
            const { colour } = look(colours.get(n) ?? 0);
            return { stroke: colour, width: 1, dash: [1, 3], points: { show: false }, paths, spanGaps: false };
          }),
        ],
        scales: { x: { time: true }, y: { range: states ? () => [-0.15, 1.15] : around } },
        hooks: {
          drawClear: [(u) => hatch(u, now.current.view, now.current.shown)],
          draw: [(u) => marks(u, now.current.view, now.current.shown, colours, now.current.mark)],
          setSelect: [
            (u) => {
              if (u.select.width < 4) return;
              now.current.onZoom(usOf(u, u.select.left), usOf(u, u.select.left + u.select.width));
              u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
            },
          ],
          setCursor: [
            (u) => {
              const x = u.cursor.left ?? -1;
              now.current.onCursor(x < 0 ? undefined : usOf(u, x));
            },
          ],
        },
      },
      data(now.current.view, now.current.shown),
      at,
    );
    plot.current = made;
    let down = 0;
    const pressed = (e: MouseEvent) => (down = e.clientX);
    const clicked = (e: MouseEvent) => {
      if (Math.abs(e.clientX - down) < 4)
        now.current.onMark(usOf(made, e.clientX - made.over.getBoundingClientRect().left));
    };
    const wheeled = (e: WheelEvent) => {
      e.preventDefault();
      now.current.onWheel(usOf(made, e.clientX - made.over.getBoundingClientRect().left), e.deltaY > 0);
    };
    made.over.addEventListener("mousedown", pressed);
    made.over.addEventListener("click", clicked);
    made.over.addEventListener("wheel", wheeled, { passive: false });
    const sized = new ResizeObserver(() => made.setSize({ width: at.clientWidth, height }));
    sized.observe(at);
    return () => {
      sized.disconnect();
      made.destroy();
    };
  }, [shown, from, height, states, colours]);
  useEffect(() => {
    const u = plot.current;
    if (!u) return;
    u.batch(() => {
      u.setData(data(view, shown), false);
      u.setScale("x", { min: view.fromUs / second, max: Math.max(view.toUs, view.fromUs + 1000) / second });
    });
  }, [view, shown]);
  useEffect(() => plot.current?.redraw(false), [mark]);
  const names = shown.map((n) => pens[n]?.name).join(", ");
  return (
    <div
      ref={box}
      role="img"
      aria-label={`${names}${unit ? ` in ${unit}` : ""}: ${shown
        .map((n) => {
          const drawn = penOf(view, n);
          const last = drawn?.v.at(-1);
          return `${drawn?.count ?? 0} samples${last === undefined || !pens[n] ? "" : `, at the end ${reads(pens[n], last)}`}`;
        })
        .join("; ")}`}
    />
  );
}

/** A figure of an axis with as many decimals as its steps have. */
const figure = (v: number, step: number) =>
  v.toFixed(Math.max(0, -Math.floor(Math.log10(step) + 1e-9))).replaceAll(/\B(?=(\d{3})+(?!\d))(?<!\.\d*)/g, "\u2009");

const around = (_u: uPlot, lo: number | null, hi: number | null): [number, number] => {
  if (lo === null || hi === null) return [0, 1];
  return lo === hi ? [lo - 1, hi + 1] : [lo - (hi - lo) * 0.08, hi + (hi - lo) * 0.08];
};

const penOf = (view: ChartView, n: number): DrawnPen | undefined =>
  view.pens.find((p) => p.pen === n && p.into === undefined);

/** The sources of pens of a pane that lie in another unit, as they arrive there. */
export const arriving = (view: ChartView, shown: number[]): DrawnPen[] =>
  view.pens.filter((p) => p.into !== undefined && shown.includes(p.into));

/** The lines of a pane over the times of all of them; each stands until the window ends. */
function data(view: ChartView, shown: number[]): uPlot.AlignedData {
  const lines = [...shown.map((n) => penOf(view, n)), ...arriving(view, shown)];
  const tables = lines.map((drawn): [number[], (number | null)[]] => {
    if (!drawn || drawn.atUs.length === 0) return [[view.fromUs / second], [null]];
    const gaps = new Set(drawn.gaps);
    const xs: number[] = [];
    const ys: (number | null)[] = [];
    drawn.atUs.forEach((at, i) => {
      const x = Math.max(at, view.fromUs) / second;
      const before = ys.at(-1);
      if (gaps.has(i) && before !== undefined && before !== null) {
        xs.push(x - 1e-6); // it stood until here
        ys.push(before);
      }
      xs.push(x);
      ys.push(gaps.has(i) ? null : (drawn.v[i] ?? null));
    });
    const last = ys.at(-1);
    if (last !== undefined && last !== null && (drawn.atUs.at(-1) ?? 0) < view.toUs) {
      xs.push(view.toUs / second);
      ys.push(last);
    }
    return [xs, ys];
  });
  return uPlot.join(
    tables,
    tables.map(() => [0, 2]),
  );
}

/** Hatches the times at which a pen has no value. */
function hatch(u: uPlot, view: ChartView, shown: number[]) {
  const { ctx, bbox } = u;
  const rule = getComputedStyle(document.documentElement).getPropertyValue("--notyet");
  ctx.save();
  ctx.strokeStyle = rule;
  ctx.lineWidth = 1;
  ctx.globalAlpha = 0.55;
  shown.forEach((n, row) => {
    const drawn = penOf(view, n);
    for (const g of drawn?.gaps ?? []) {
      if (g > 0 && drawn?.gaps.includes(g - 1)) continue;
      let end = g + 1;
      while (drawn?.gaps.includes(end)) end++;
      const x0 = u.valToPos(Math.max(drawn?.atUs[g] ?? 0, view.fromUs) / second, "x", true);
      const x1 = Math.max(x0 + 1, u.valToPos(Math.min(drawn?.atUs[end] ?? view.toUs, view.toUs) / second, "x", true));
      // Of several pens each has a band of its own, so that it is seen which of them it was.
      const height = bbox.height / shown.length;
      const top = bbox.top + row * height;
      ctx.save();
      ctx.beginPath();
      ctx.rect(x0, top, x1 - x0, height);
      ctx.clip();
      ctx.beginPath();
      for (let x = x0 - height; x < x1; x += 7) {
        ctx.moveTo(x, top + height);
        ctx.lineTo(x + height, top);
      }
      ctx.stroke();
      ctx.restore();
    }
  });
  ctx.restore();
}

/** Marks the samples where there is room for it, the doubtful ones always, and the moment that is held. */
function marks(u: uPlot, view: ChartView, shown: number[], colours: Map<number, number>, mark: number | undefined) {
  const { ctx, bbox } = u;
  const px = devicePixelRatio;
  ctx.save();
  for (const n of shown) {
    const drawn = penOf(view, n);
    if (!drawn) continue;
    const room = drawn.all && drawn.atUs.length * 5 * px < bbox.width;
    const gaps = new Set(drawn.gaps);
    ctx.fillStyle = look(colours.get(n) ?? 0).colour;
    if (room)
      drawn.atUs.forEach((at, i) => {
        if (gaps.has(i) || at < view.fromUs) return;
        ctx.beginPath();
        ctx.arc(u.valToPos(at / second, "x", true), u.valToPos(drawn.v[i] ?? 0, "y", true), 2.5 * px, 0, 7);
        ctx.fill();
      });
    ctx.fillStyle = getComputedStyle(document.documentElement).getPropertyValue("--doubt");
    for (const i of drawn.doubts) {
      const at = drawn.atUs[i] ?? 0;
      if (at < view.fromUs) continue;
      const x = u.valToPos(at / second, "x", true);
      const y = u.valToPos(drawn.v[i] ?? 0, "y", true);
      ctx.beginPath();
      ctx.moveTo(x - 4 * px, y + 3.5 * px);
      ctx.lineTo(x + 4 * px, y + 3.5 * px);
      ctx.lineTo(x, y - 4 * px);
      ctx.fill();
    }
  }
  if (mark !== undefined && mark >= view.fromUs && mark <= view.toUs) {
    const x = u.valToPos(mark / second, "x", true);
    ctx.strokeStyle = getComputedStyle(document.documentElement).getPropertyValue("--ink");
    ctx.lineWidth = px;
    ctx.setLineDash([3 * px, 3 * px]);
    ctx.beginPath();
    ctx.moveTo(x, bbox.top);
    ctx.lineTo(x, bbox.top + bbox.height);
    ctx.stroke();
  }
  ctx.restore();
}
