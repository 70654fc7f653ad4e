import { useEffect, useSyncExternalStore } from "react";

/** Something that can be done from wherever one is, by its title. */
export interface Action {
  title: string;
  keys?: string;
  run: () => void;
}

let own: Action[] = [];
const listeners = new Set<() => void>();

function set(list: Action[]) {
  own = list;
  listeners.forEach((listener) => listener());
}

/** Offers what the screen in view can do to whoever looks for it with Ctrl K; of says to which object it is done. */
export function useOffer(of: string, list: Action[]) {
  useEffect(() => {
    set(list);
    return () => set([]);
    // The object and the titles say all that is offered.
    // oxlint-disable-next-line react/exhaustive-deps
  }, [of, list.map((a) => a.title).join("\n")]);
}

/** What the screen in view offers. */
export const useOffered = () =>
  useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => own,
  );
