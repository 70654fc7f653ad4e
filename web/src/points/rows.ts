import type { PointRow, PointsView } from "../api/types.gen";

/** Which column the rows of a map are sorted by. */
export interface Sorting {
  by: string;
  down: boolean;
}

/** What a press on a column makes of a sorting: one way, the other way, none. */
export const turned = (sort: Sorting | undefined, by: string): Sorting | undefined =>
  sort?.by !== by
    ? { by, down: by === "findings" }
    : sort.down === (by === "findings")
      ? { by, down: !sort.down }
      : undefined;

const natural = new Intl.Collator("en", { numeric: true, sensitivity: "base" });
const ranks: Record<string, number> = { fault: 3, doubt: 2, note: 1 };

/** What of a map decides which rows are in view. */
export type Listed = Pick<PointsView, "columns" | "rows" | "findings">;

/** The rows in view: filtered by what stands in each column, and sorted. */
export function inView(points: Listed, sort: Sorting | undefined, filters: Record<string, string>): PointRow[] {
  const tests = Object.entries(filters)
    .filter(([, text]) => text.trim())
    .map(([column, text]) => ({ at: points.columns.indexOf(column), test: matcher(text.trim()) }));
  let rows = points.rows;
  if (tests.length) rows = rows.filter((r) => tests.every((t) => t.test(r.cells[t.at] ?? "")));
  if (!sort) return rows;
  const worst = new Map<string, number>();
  if (sort.by === "findings")
    for (const f of points.findings)
      worst.set(f.subject.id, Math.max(worst.get(f.subject.id) ?? 0, ranks[f.severity] ?? 0));
  const at = points.columns.indexOf(sort.by);
  const keyed = rows.map((row) => ({ row, text: row.cells[at] ?? "", rank: worst.get(row.id) ?? 0 }));
  keyed.sort((a, b) => {
    if (sort.by === "findings") return a.rank - b.rank;
    if (sort.by === "address")
      return a.row.area.localeCompare(b.row.area) || a.row.start - b.row.start || natural.compare(a.text, b.text);
    return natural.compare(a.text, b.text);
  });
  if (sort.down) keyed.reverse();
  return keyed.map((k) => k.row);
}

/** A filter: a part of the text, =exactly, !not, < or > a number, or – for empty cells. */
export function matcher(filter: string): (text: string) => boolean {
  const rest = filter.slice(1).trim().toLowerCase();
  const than = Number(rest);
  if (filter === "–" || filter === "-") return (text) => text === "";
  if (filter.startsWith("=")) return (text) => text.toLowerCase() === rest;
  if (filter.startsWith("!")) return (text) => !text.toLowerCase().includes(rest);
  if (/^[<>]/.test(filter) && rest && !Number.isNaN(than)) {
    const number = (text: string) => Number(text.replace(/[^0-9.eE-]/g, ""));
    return filter.startsWith("<")
      ? (text) => text !== "" && number(text) < than
      : (text) => text !== "" && number(text) > than;
  }
  return (text) => text.toLowerCase().includes(filter.toLowerCase());
}
