import type { DrawnPen, Pen } from "../../api/types.gen";
import { clock } from "../../shared/ui";

/** Times of trends are microseconds since 1970. */
export const second = 1_000_000;

/** How a pen is drawn: four colours, and where these are used up, dashes. */
export function look(n: number): { colour: string; dash?: number[] } {
  const colours = ["--tide", "--series2", "--series3", "--ink2"];
  const dashes = [undefined, [7, 3], [2, 3]];
  const colour = getComputedStyle(document.documentElement).getPropertyValue(colours[n % 4] ?? "--tide");
  return { colour, dash: dashes[Math.floor(n / 4) % 3] };
}

/** The pens of a strip in panes: one unit to a pane, two-state points together. */
export function panesOf(pens: Pen[], chosen: number[]): { key: string; unit: string; pens: number[] }[] {
  const panes = new Map<string, number[]>();
  for (const n of chosen) {
    const pen = pens[n];
    if (!pen) continue;
    const key = pen.twoState ? "states" : "u" + pen.unit;
    panes.set(key, [...(panes.get(key) ?? []), n]);
  }
  return [...panes].map(([key, list]) => ({
    key,
    unit: key === "states" ? "off, on" : key.slice(1),
    pens: list,
  }));
}

/** The index of the sample that stands at a time, -1 where there is none. */
export function standing(drawn: DrawnPen, atUs: number): number {
  let low = 0;
  let high = drawn.atUs.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((drawn.atUs[middle] ?? 0) <= atUs) low = middle + 1;
    else high = middle;
  }
  return low - 1;
}

/** What a pen shows as text. */
export function reads(pen: Pen, v: number): string {
  if (pen.twoState) return v === 0 ? "off" : "on";
  return pen.decimals >= 0 ? v.toFixed(pen.decimals) : String(Number(v.toPrecision(7)));
}

/** A time of day, to the microsecond where a sample has them. */
export function exact(us: number): string {
  const micros = us % 1000;
  return clock(Math.floor(us / 1000)) + (micros ? String(micros).padStart(3, "0") : "");
}

/** A time of day as an axis shows it, as fine as the window is narrow. */
export function tick(s: number, spanS: number): string {
  const whole = clock(Math.round(s * 1000));
  return spanS < 20 ? whole.slice(0, spanS < 2 ? 12 : 10) : spanS < 7200 ? whole.slice(0, 8) : whole.slice(0, 5);
}

/** A length of time in words. */
export function lasts(us: number): string {
  const ms = us / 1000;
  if (ms < 1000) return `${ms.toFixed(ms < 10 ? 1 : 0)} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(ms < 10_000 ? 2 : 1)} s`;
  const s = Math.round(ms / 1000);
  const [h, m] = [Math.floor(s / 3600), Math.floor((s % 3600) / 60)];
  return h ? `${h} h ${m} min` : `${m} min ${s % 60} s`;
}
