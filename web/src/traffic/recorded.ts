import { useQueries } from "@tanstack/react-query";
import { useCallback, useMemo, useRef, useState } from "react";
import { get } from "../api/client";
import type { Rung, RungList } from "../api/types.gen";

/** What of a recording is wanted, as its address has it. */
export interface Wanted {
  row?: number; // the exchange that is open
  finding?: string;
  view?: "talks" | "learned" | "history";
  bad?: boolean;
  asker?: string;
  at?: string;
  station?: number;
  function?: number;
  area?: string;
  offset?: number;
  count?: number;
}

/** The part of it that picks exchanges, as a query. */
export function queryOf(w: Wanted): string {
  const q = new URLSearchParams();
  if (w.bad) q.set("bad", "1");
  for (const key of ["asker", "at", "station", "function", "area", "offset", "count"] as const) {
    if (w[key] !== undefined) q.set(key, String(w[key]));
  }
  return q.toString();
}

const page = 200;

/** The exchanges of a recording: pages of them, as they come into view. */
export function useRungs(id: string, ready: boolean, filter: string) {
  const [view, setView] = useState({ first: 0, last: 0 });
  const wanted = useMemo(() => {
    const from = Math.max(0, Math.floor(view.first / page) - 1);
    const to = Math.floor(view.last / page) + 1;
    return Array.from({ length: to - from + 1 }, (_, i) => from + i);
  }, [view]);
  const pages = useQueries({
    queries: wanted.map((n) => ({
      queryKey: ["recorded", id, filter, n],
      queryFn: () => get<RungList>(`/api/recordings/${id}/exchanges?${filter}&from=${n * page}&most=${page}`),
      enabled: ready,
      staleTime: Infinity,
      gcTime: 20_000,
      structuralSharing: false,
    })),
  });
  const known = useRef({ key: "", total: 0, rungs: new Map<number, Rung>() });
  const key = id + "?" + filter + ready;
  if (known.current.key !== key) known.current = { key, total: 0, rungs: new Map() };
  let version = 0;
  for (const p of pages) {
    if (!p.data) continue;
    version += p.dataUpdatedAt;
    known.current.total = p.data.total;
    if (known.current.rungs.size > 20 * page) known.current.rungs.clear();
    p.data.rungs.forEach((r, i) => known.current.rungs.set((p.data?.from ?? 0) + i, r));
  }
  const now = known.current;
  // Another function where what is known has changed, so that what is drawn is drawn anew.
  // oxlint-disable-next-line react/exhaustive-deps
  const rung = useCallback((index: number) => now.rungs.get(index), [now, version]);
  // A browser bears no list of millions of rows: so many of them are drawn, from one on.
  const [start, setStart] = useState({ key, base: 0 });
  const base = start.key === key ? start.base : 0;
  const onView = useCallback(
    (first: number, last: number) =>
      setView((v) =>
        v.first === base + first && v.last === base + last ? v : { first: base + first, last: base + last },
      ),
    [base],
  );
  const drawn = Math.max(0, Math.min(now.total - base, mostDrawn));
  /** Has a place be among those that are drawn. */
  const bring = useCallback(
    (place: number) =>
      setStart((s) => {
        const was = s.key === key ? s.base : 0;
        const inside = place >= was && place < was + mostDrawn;
        return inside ? s : { key, base: Math.max(0, place - mostDrawn / 2) };
      }),
    [key],
  );
  return { total: now.total, base, drawn, bring, rung, onView, view, error: pages.find((p) => p.error)?.error };
}

/** How many rows are drawn in one list. */
const mostDrawn = 400_000;
