/** A whole number; anything else becomes a value that the store refuses with its reason. */
export function whole(text: string): number {
  const t = text.trim();
  if (t === "") return 0;
  if (!/^-?\d+$/.test(t)) throw new Error(`“${text}” is not a whole number.`);
  return Number(t);
}

/** A number as typed; anything else is refused with its reason. */
export function number(text: string): number {
  const t = text.trim().replace(",", ".");
  const n = Number(t);
  if (Number.isNaN(n)) throw new Error(`“${text}” is not a number.`);
  return n;
}

/** So many of something, thousands apart. */
export const count = (n: number, word: string) =>
  `${String(n).replaceAll(/\B(?=(\d{3})+$)/g, "\u2009")} ${word}${n === 1 ? "" : "s"}`;
