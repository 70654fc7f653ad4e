import { useMemo, useState } from "react";

const key = "ferry-columns";
const hidden = ["missing", "low", "high", "change", "band", "told"];

/** The columns of the grid that are shown, as this browser remembers them. */
export function useColumns(all: string[]): { shown: string[]; toggle: (column: string) => void } {
  const [off, setOff] = useState<string[]>(() => {
    try {
      const kept: unknown = JSON.parse(localStorage.getItem(key) ?? "null");
      return Array.isArray(kept) ? kept.filter((c): c is string => typeof c === "string") : hidden;
    } catch {
      return hidden; // what was kept is not what this version keeps
    }
  });
  const shown = useMemo(() => all.filter((c) => c === "name" || !off.includes(c)), [all, off]);
  return {
    shown,
    toggle: (column) => {
      const next = off.includes(column) ? off.filter((c) => c !== column) : [...off, column];
      setOff(next);
      localStorage.setItem(key, JSON.stringify(next));
    },
  };
}
