/** A rectangle of cells, both edges included. */
export interface Box {
  top: number;
  bottom: number;
  left: number;
  right: number;
}

/** The rows and cells of a text that was copied from a table: a tab between cells, a line for a row. */
export const tableOf = (text: string): string[][] =>
  text
    .replace(/\r?\n$/, "")
    .split(/\r?\n/)
    .map((line) => line.split("\t"));

/** A table as a text that spreadsheets take. */
export const textOf = (table: string[][]): string => table.map((row) => row.join("\t")).join("\n");

/**
 * Where a table that is pasted goes, and what into each cell: a single cell into all that are selected, anything else
 * from the upper left corner of the selection on. Nothing where it reaches beyond the last row and has several columns:
 * that is a table with points of its own.
 */
export function pasted(
  table: string[][],
  selected: Box,
  rows: number,
): { into: Box; text: (row: number, col: number) => string | undefined } | undefined {
  const wide = Math.max(...table.map((row) => row.length));
  if (table.length > rows - selected.top && (table[0]?.length ?? 0) > 1) return undefined;
  if (table.length === 1 && wide === 1) return { into: selected, text: () => table[0]?.[0] };
  return {
    into: {
      top: selected.top,
      left: selected.left,
      bottom: selected.top + table.length - 1,
      right: selected.left + wide - 1,
    },
    text: (row, col) => table[row]?.[col],
  };
}

/** A cell that is to hold another text. */
export interface Changed {
  row: number;
  col: number;
  text: string;
}

/** The cells of a rectangle that get another text than they have; what is undefined, or not there, is left alone. */
export function changes(
  into: Box,
  size: { rows: number; cols: number },
  has: (row: number, col: number) => string,
  will: (row: number, col: number, down: number, across: number) => string | undefined,
): Changed[] {
  const cells: Changed[] = [];
  for (let row = into.top; row <= Math.min(into.bottom, size.rows - 1); row++)
    for (let col = into.left; col <= Math.min(into.right, size.cols - 1); col++) {
      const text = will(row, col, row - into.top, col - into.left);
      if (text !== undefined && text !== has(row, col)) cells.push({ row, col, text });
    }
  return cells;
}
