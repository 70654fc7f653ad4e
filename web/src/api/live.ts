import type { QueryClient } from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import { post } from "./client";
import { changed, taken, type LiveState } from "./pulse";
import type { Live, Pulse } from "./types.gen";

/**
 * The live side of the page: what the event stream has told so far. Points are
 * subscribed to one by one, so that a value that changes redraws its own cell
 * and nothing else.
 */
let current: LiveState = {
  connected: false,
  state: {
    mode: "bench",
    unlockedMs: 0,
    running: [],
    serving: [],
    allowed: [],
    released: [],
    plan: 0,
    compiling: false,
  },
  findings: [],
  crossings: {},
  exchange: 0,
  nowMs: Date.now(),
  open: [],
  lookouts: 0,
  proved: 0,
  provers: [],
};
const points = new Map<string, Live>();
const watchers = new Map<string, Set<() => void>>();

/** Names this stream, so that the server knows which points it shows. */
export const stream = Array.from(crypto.getRandomValues(new Uint32Array(3)), (n) => n.toString(36)).join("");

/** Values of points that are shown no more are kept for a moment: long enough for a page to be drawn anew. */
const left = new Map<string, number>();
const stale = 2000;

let telling: ReturnType<typeof setTimeout> | undefined;
/** Tells the server which points are shown, once that has settled. */
function tellShown() {
  clearTimeout(telling); // while a list is scrolled it goes on settling
  telling = setTimeout(() => {
    const shown = [...watchers]
      .filter(([, set]) => set.size > 0)
      .map(([id]) => id)
      .slice(0, 5000);
    void post("/api/watch", { window: stream, points: shown }).catch(() => {
      /* the stream tells that there is no contact */
    });
  }, 60);
}
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
  const source = new EventSource(`/api/stream?window=${stream}`);
  source.addEventListener("values", (event) => {
    for (const live of JSON.parse(String(event.data)) as Live[]) {
      points.set(live.point, live);
      watchers.get(live.point)?.forEach((watcher) => watcher());
    }
  });
  source.addEventListener("error", () => {
    void client.invalidateQueries({ queryKey: ["me"] }); // the session may have ended
    if (!current.connected) return;
    current = { ...current, connected: false };
    tell();
  });
  source.addEventListener("message", (event) => {
    const pulse = JSON.parse(String(event.data)) as Pulse;
    if (pulse.whole) {
      // What was known may be of another run: what is shown is told anew.
      for (const id of points.keys()) {
        points.delete(id);
        watchers.get(id)?.forEach((watcher) => watcher());
      }
      tellShown();
    }
    const news = changed({ seq, routes, plan, shown: shownSeq }, pulse);
    if (news === "everything") void client.invalidateQueries();
    else for (const key of news) void client.invalidateQueries({ queryKey: [key] });
    shownSeq = pulse.seq;
    seq = pulse.seq;
    routes = pulse.routes;
    plan = pulse.state.plan;
    current = taken(current, pulse);
    tell();
  });
  return source;
}

/** A part of the live state: what shows it is drawn again only when that part changes. */
export const useLivePart = <T>(part: (live: LiveState) => T): T => useSyncExternalStore(subscribe, () => part(current));

export const useLiveState = () => useSyncExternalStore(subscribe, () => current);

/** The latest state of one point, or undefined before it is known. */
export function useLive(id: string | undefined): Live | undefined {
  return useSyncExternalStore(
    (watcher) => {
      if (!id) return () => {};
      const set = watchers.get(id) ?? new Set();
      watchers.set(id, set);
      set.add(watcher);
      const gone = left.get(id);
      left.delete(id);
      if (gone && Date.now() - gone > stale) points.delete(id);
      if (set.size === 1) tellShown();
      return () => {
        set.delete(watcher);
        if (set.size > 0) return;
        watchers.delete(id);
        left.set(id, Date.now());
        tellShown();
      };
    },
    () => (id ? points.get(id) : undefined),
  );
}
