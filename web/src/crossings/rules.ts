import type { CrossingView, SiteView } from "../api/types.gen";

/** A crossing as it is kept, without what is only shown. */
export const bare = ({
  words: _words,
  source: _source,
  target: _target,
  moreEnds: _more,
  steps: _steps,
  enableName: _enable,
  qualityName: _quality,
  ...kept
}: CrossingView) => kept;

/** A scale or deadband as typed; "÷ 10" and "/10" divide. */
export function factor(text: string): number {
  const t = text.trim().replace(",", ".").replace("\u2212", "-");
  if (t === "") return 0;
  const divided = /^[÷/]\s*(.+)$/.exec(t);
  const n = Number(divided ? divided[1] : t.replace(/^[×x*]\s*/, ""));
  if (!Number.isFinite(n) || (divided && n === 0)) throw new Error(`“${text}” is not a number.`);
  return divided ? 1 / n : n;
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

/** Whether all words that are sought stand in a crossing: its ends, its rules, its list. */
export function seeks(sought: string, site: SiteView) {
  const words = sought.toLowerCase().split(/\s+/).filter(Boolean);
  const lists = new Map(site.lists.map((l) => [l.id, l.name]));
  return (c: CrossingView) => {
    const text = [
      c.source.name,
      c.source.address,
      c.target.name,
      c.target.address,
      c.words,
      c.remark ?? "",
      lists.get(c.list ?? "") ?? "",
      c.off ? "off" : "",
    ]
      .join(" ")
      .toLowerCase();
    return words.every((word) => text.includes(word));
  };
}
