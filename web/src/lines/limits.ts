import type { Def, Units } from "../api/types.gen";

/** A run of units in words: the area and the first, and how many. An area with a number in it is set off by a colon. */
export const runText = (run: Units): string => `${run.area}${/\d/.test(run.area) ? ":" : ""}${run.from}+${run.count}`;

/** What a run of units looks like in a map of a protocol. */
export const runExample = (def: Def | undefined): string => {
  const area = def?.areas.at(-1);
  return area ? runText({ area: area.key, from: 40, count: 8 }) : "";
};

/** Runs of units that must not be read, with commas between. */
export function readRuns(text: string, def: Def | undefined): Units[] {
  return text
    .split(",")
    .map((part) => part.trim())
    .filter(Boolean)
    .map((part) => {
      const m = /^(?:([a-z]\w*):|([a-z]+))\s*(\d+)(?:\s*\+\s*(\d+))?$/i.exec(part);
      const area = (m?.[1] ?? m?.[2] ?? "").toLowerCase();
      if (!m?.[3] || !area)
        throw new Error(`“${part}” is no run of units: write ${runExample(def)}, for 8 from wire offset 40 on.`);
      return { area, from: Number(m[3]), count: Number(m[4] ?? 1) };
    });
}
