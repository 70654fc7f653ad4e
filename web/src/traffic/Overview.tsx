import { memo, useMemo } from "react";
import { clock } from "../shared/ui";

const bars = 210;

/** How much was said when, and how much of it was wrong; a press goes there. */
export const Overview = memo(function Overview({
  beginsMs,
  stepMs,
  all,
  bad,
  fromMs,
  toMs,
  onGo,
}: {
  beginsMs: number;
  stepMs: number;
  all: number[];
  bad: number[];
  fromMs: number; // what the ladder shows
  toMs: number;
  onGo: (atMs: number) => void;
}) {
  const whole = Math.max(all.length * stepMs, 1);
  const drawn = useMemo(() => {
    const each = Math.max(1, Math.ceil(all.length / bars));
    const sums: { all: number; bad: number }[] = [];
    for (let i = 0; i < all.length; i += each) {
      let a = 0;
      let b = 0;
      for (let k = i; k < Math.min(i + each, all.length); k++) {
        a += all[k] ?? 0;
        b += bad[k] ?? 0;
      }
      sums.push({ all: a, bad: b });
    }
    const most = Math.max(1, ...sums.map((s) => s.all));
    return { sums, most, width: (100 * each) / Math.max(all.length, 1) };
  }, [all, bad]);
  const share = (ms: number) => Math.min(Math.max((100 * (ms - beginsMs)) / whole, 0), 100);
  return (
    <div className="flex-none border-b border-rule bg-sheet px-4 pt-2 pb-1">
      <button
        type="button"
        className="relative block h-[42px] w-full"
        aria-label="Overview of time: press to go there"
        onClick={(e) => {
          const box = e.currentTarget.getBoundingClientRect();
          onGo(beginsMs + (whole * (e.clientX - box.left)) / box.width);
        }}
      >
        <svg className="absolute inset-0 h-full w-full" preserveAspectRatio="none" viewBox="0 0 100 42" aria-hidden>
          {drawn.sums.map((s, i) => {
            const h = s.all ? Math.max(2, (40 * s.all) / drawn.most) : 0;
            const b = s.bad ? Math.max(4, (40 * s.bad) / drawn.most) : 0;
            const x = i * drawn.width;
            return (
              <g key={i}>
                {h > 0 && <rect x={x} width={drawn.width * 0.8} y={42 - h} height={h} fill="var(--tide-soft)" />}
                {b > 0 && <rect x={x} width={drawn.width * 0.8} y={42 - b} height={b} fill="var(--fault)" />}
              </g>
            );
          })}
        </svg>
        {toMs > 0 && (
          <span
            className="absolute inset-y-0 rounded border-2 border-ink"
            style={{ left: `${share(fromMs)}%`, width: `max(6px, ${share(toMs) - share(fromMs)}%)` }}
          />
        )}
      </button>
      <div className="mono small soft flex justify-between">
        <span>{clock(beginsMs)}</span>
        <span>{clock(beginsMs + whole / 2)}</span>
        <span>{clock(beginsMs + whole)}</span>
      </div>
    </div>
  );
});
