import { useSyncExternalStore } from "react";
import { problemOf } from "../api/client";

interface Toast {
  id: number;
  text: string;
  fault: boolean;
}

let toasts: Toast[] = [];
let next = 1;
const listeners = new Set<() => void>();

function set(list: Toast[]) {
  toasts = list;
  listeners.forEach((listener) => listener());
}

/** Shows a sentence for some seconds; a problem stays until it is closed. */
export function say(text: string, fault = false) {
  const toast = { id: next++, text, fault };
  set([...toasts.slice(-3), toast]);
  if (!fault) setTimeout(() => set(toasts.filter((t) => t.id !== toast.id)), 4000);
}

/** Runs something that may fail and says why if it does. */
export async function attempt<T>(work: () => Promise<T>): Promise<T | undefined> {
  try {
    return await work();
  } catch (error) {
    const p = problemOf(error);
    say([p.where ? p.where + ": " : "", p.sentence, p.do ? " " + p.do : ""].join(""), true);
    return undefined;
  }
}

/** What lies under a sentence can still be pressed: only its button takes the mouse. */
export function Toasts() {
  const list = useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => toasts,
  );
  return (
    <div
      className="pointer-events-none fixed bottom-16 left-1/2 z-50 flex w-[min(560px,90vw)] -translate-x-1/2 flex-col gap-2"
      role="status"
      aria-live="polite"
    >
      {list.map((toast) => (
        <div key={toast.id} className={"notice flex items-start gap-3 shadow-lg " + (toast.fault ? "" : "note")}>
          <span className="flex-1">{toast.text}</span>
          <button
            type="button"
            className="pointer-events-auto font-semibold underline"
            onClick={() => set(toasts.filter((t) => t.id !== toast.id))}
          >
            Close
          </button>
        </div>
      ))}
    </div>
  );
}
