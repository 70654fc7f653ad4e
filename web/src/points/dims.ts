import type { Dim } from "../api/types.gen";

/** Writes dimensions as IEC 61131-3 has them between the brackets of an array: "1..4, 0..2". */
export const dimsText = (dims: Dim[]) => dims.map((d) => `${d.first}..${d.first + d.count - 1}`).join(", ");

/** Reads dimensions back; undefined where the text is none. */
export function dimsOf(text: string): Dim[] | undefined {
  if (!text.trim()) return [];
  const dims: Dim[] = [];
  for (const part of text.split(",")) {
    const ends = /^\s*(-?\d+)\s*\.\.\s*(-?\d+)\s*$/.exec(part);
    const [first, last] = [Number(ends?.[1]), Number(ends?.[2])];
    if (!ends || last < first) return undefined;
    dims.push({ first, count: last - first + 1 });
  }
  return dims;
}
