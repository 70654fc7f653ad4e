import type { QueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import type { CrossingState, Finding, Live, Pulse, State } from "./types.gen";

/**
 * The live side of the page: what the event stream has told so far. Points are
 * subscribed to one by one, so that a value that changes redraws its own cell
 * and nothing else.
 */
export interface LiveState {
  connected: boolean;
  state: State;
  findings: Finding[];
  crossings: Record<string, CrossingState>;
  exchange: number;
  nowMs: number;
}

let current: LiveState = { connected: false, state: { mode: "bench", unlockedMs: 0, running: [], allowed: [], released: [], plan: 0, compiling: false }, findings: [], crossings: {}, exchange: 0, nowMs: Date.now() };
const points = new Map<string, Live>();
const watchers = new Map<string, Set<() => void>>();
const listeners = new Set<() => void>();

/** The site that the page shows, over all streams that it has had. */
let shownSeq = 0;

function subscribe(listener: () => void) {
  listeners.add(listener);
  return () => listeners.delete(listener);
}
const tell = () => listeners.forEach((listener) => listener());

/**
 * Keeps the event stream open while the page is in view. A page that nobody
 * sees lets go of it: browsers grant one server only six connections, however
 * many windows look at it.
 */
export function keepStream(client: QueryClient) {
  let source: EventSource | undefined;
  const look = () => {
    if (document.visibilityState === "visible") source ??= openStream(client);
    else close();
  };
  const close = () => {
    source?.close();
    source = undefined;
  };
  document.addEventListener("visibilitychange", look);
  window.addEventListener("pagehide", close);
  window.addEventListener("pageshow", look);
  look();
  return () => {
    document.removeEventListener("visibilitychange", look);
    window.removeEventListener("pagehide", close);
    window.removeEventListener("pageshow", look);
    close();
  };
}

/** Opens the event stream; the browser reconnects by itself. */
function openStream(client: QueryClient) {
  let seq = 0;
  let routes = -1;
  let plan = -1;
  const source = new EventSource("/api/stream");
  source.addEventListener("error", () => {
    void client.invalidateQueries({ queryKey: ["me"] }); // the session may have ended
    if (!current.connected) return;
    current = { ...current, connected: false };
    tell();
  });
  source.addEventListener("message", (event) => {
    const pulse = JSON.parse(String(event.data)) as Pulse;
    if (pulse.whole) {
      // What is no longer told of is not read any more.
      const told = new Set(pulse.live.map((live) => live.point));
      for (const id of points.keys()) {
        if (told.has(id)) continue;
        points.delete(id);
        watchers.get(id)?.forEach((watcher) => watcher());
      }
    }
    for (const live of pulse.live) {
      points.set(live.point, live);
      watchers.get(live.point)?.forEach((watcher) => watcher());
    }
    if (!seq && shownSeq && shownSeq !== pulse.seq) void client.invalidateQueries();
    shownSeq = pulse.seq;
    if ((seq && pulse.seq !== seq) || (routes >= 0 && pulse.routes !== routes)) {
      void client.invalidateQueries({ queryKey: ["site"] });
      if (pulse.seq !== seq) for (const key of ["points", "point", "timetable", "journal", "sheets"]) void client.invalidateQueries({ queryKey: [key] });
    }
    if (plan >= 0 && pulse.state.plan !== plan) for (const key of ["site", "points", "timetable"]) void client.invalidateQueries({ queryKey: [key] });
    seq = pulse.seq;
    routes = pulse.routes;
    plan = pulse.state.plan;
    current = {
      connected: true,
      state: pulse.state,
      findings: pulse.findings ?? current.findings,
      crossings: Object.fromEntries(pulse.crossings.map((c) => [c.id, c])),
      exchange: pulse.exchange,
      nowMs: pulse.nowMs,
    };
    tell();
  });
  return source;
}

export const useLiveState = () => useSyncExternalStore(subscribe, () => current);

/** The latest state of one point, or undefined before it is known. */
export function useLive(id: string | undefined): Live | undefined {
  return useSyncExternalStore(
    (watcher) => {
      if (!id) return () => {};
      const set = watchers.get(id) ?? new Set();
      watchers.set(id, set);
      set.add(watcher);
      return () => set.delete(watcher);
    },
    () => (id ? points.get(id) : undefined),
  );
}
