import { useRef } from "react";
import { awaited, sendEdit, useRefresh, type Kind } from "../api/client";

const isRecord = (v: unknown): v is Record<string, unknown> => typeof v === "object" && v !== null && !Array.isArray(v);

/** What stands now, with all that was changed from one state to the next. */
function moved(from: unknown, to: unknown, now: unknown): unknown {
  if (from === to) return now;
  if (isRecord(from) && isRecord(to) && isRecord(now)) {
    const result = { ...now };
    for (const key of new Set([...Object.keys(from), ...Object.keys(to)])) {
      if (key in to) result[key] = moved(from[key], to[key], now[key]);
      else delete result[key];
    }
    return result;
  }
  if (
    Array.isArray(from) &&
    Array.isArray(to) &&
    Array.isArray(now) &&
    from.length === to.length &&
    to.length === now.length
  )
    return to.map((each, i) => moved(from[i], each, now[i]));
  return to;
}

/**
 * Changes parts of one object. The object and its version are those that the
 * user saw when editing began, so that a change made meanwhile in another
 * window is refused instead of overwritten.
 */
export function useObjectEditor<T extends { id: string }>(
  kind: Kind,
  object: T,
  version: number,
  clean: (object: T) => unknown = (o) => o,
) {
  const refresh = useRefresh();
  const seen = useRef<{ object: T; version: number }>(undefined);
  // One edit at a time: the next starts from what the last has left.
  const last = useRef<Promise<unknown>>(Promise.resolve());
  return {
    begin: () => {
      // What this window has just sent is newer than what it has read back.
      if (!seen.current || seen.current.version < version) seen.current = { object, version };
    },
    commit: (what: string, patch: Partial<T>) => {
      const send = async () => {
        const from = seen.current ?? { object, version };
        // The page may not show yet what the last edit left: what this one changes is put on that.
        const after = moved(object, { ...object, ...patch }, from.object) as T;
        try {
          const answer = await sendEdit(what, [{ kind, id: object.id, base: from.version, after: clean(after) }]);
          seen.current = { object: after, version: answer.seq };
        } catch (error) {
          // The next attempt starts from what is there now: the user has been told.
          seen.current = undefined;
          throw error;
        }
      };
      const sent = awaited(last.current.then(send));
      last.current = sent.catch(() => undefined);
      return sent.then(refresh);
    },
  };
}
