import type { CrossingView } from "../api/types.gen";

/** A scale or deadband as typed; "÷ 10" and "/10" divide. */
export function factor(text: string): number {
  const t = text.trim().replace(",", ".").replace("\u2212", "-");
  if (t === "") return 0;
  const divided = /^[÷/]\s*(.+)$/.exec(t);
  const n = Number(divided ? divided[1] : t.replace(/^[×x*]\s*/, ""));
  if (!Number.isFinite(n) || (divided && n === 0)) throw new Error(`“${text}” is not a number.`);
  return divided ? 1 / n : n;
}

const spans: Record<string, number> = { ms: 1, s: 1000, min: 60_000, h: 3_600_000, d: 86_400_000 };

/** A time as typed, in milliseconds: "200 ms", "5 s", "2 min"; a plain number is in seconds. */
export function readSpan(text: string): number {
  const t = text.trim().replace(",", ".");
  if (t === "") return 0;
  const parts = /^([\d.]+)\s*(ms|s|min|h|d)?$/.exec(t);
  const n = Number(parts?.[1]);
  if (!parts || !Number.isFinite(n)) throw new Error(`“${text}” is no time: write it as 200 ms, 5 s or 2 min.`);
  return Math.round(n * (spans[parts[2] ?? "s"] ?? 1000));
}

/** A time in milliseconds as it is typed; nothing for 0. */
export function spanText(ms: number | undefined): string {
  if (!ms) return "";
  for (const unit of ["d", "h", "min", "s"]) {
    const whole = ms / (spans[unit] ?? 1);
    if (Number.isInteger(whole)) return `${whole} ${unit}`;
  }
  return `${ms} ms`;
}

/** The deadband as typed: "0.5", or "2 %" of the limits of the target. */
export function readDeadband(text: string): Pick<CrossingView, "deadband" | "percent"> {
  const percent = text.trim().endsWith("%");
  return { deadband: factor(percent ? text.trim().slice(0, -1) : text), percent };
}

export const deadbandText = (x: CrossingView) => (x.deadband ? `${x.deadband}${x.percent ? " %" : ""}` : "");

/** A table as typed: "3 = 2, 0 = 1, else 4". */
export function readTable(text: string): { table: { from: number; to: number }[]; else?: number } {
  const table = [];
  let others: number | undefined;
  for (const part of text.split(/[,;\n]/).map((p) => p.trim())) {
    if (!part) continue;
    const rest = /^else\s*(-?\d+)$/i.exec(part);
    const row = /^(-?\d+)\s*(?:=|→|->|:)\s*(-?\d+)$/.exec(part);
    if (rest) others = Number(rest[1]);
    else if (row) table.push({ from: Number(row[1]), to: Number(row[2]) });
    else throw new Error(`“${part}” is no row of a table: write it as 3 = 2, and “else 4” for all others.`);
  }
  return { table, else: others };
}

export const tableText = (table: { from: number; to: number }[] | undefined, others: number | undefined) =>
  [...(table ?? []).map((r) => `${r.from} = ${r.to}`), ...(others === undefined ? [] : [`else ${others}`])].join(", ");
