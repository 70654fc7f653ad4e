import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { get, problemOf } from "../api/client";
import type { FoundView, Problem } from "../api/types.gen";
import { ProblemNotice } from "./ui";

/** A point of the site that is chosen by words of its name, device or address. */
export function PointPick({
  label,
  name,
  help,
  none,
  of = "",
  onBegin,
  onPick,
}: {
  label: string;
  /** Its name with that of its device; empty for none. */
  name: string;
  help?: string;
  /** What stands there where no point is chosen. */
  none: string;
  /** The device whose points can be chosen; missing for all. */
  of?: string;
  onBegin?: () => void;
  /** Takes the id of a point, empty for none. */
  onPick: (id: string) => Promise<unknown>;
}) {
  const [words, setWords] = useState<string>();
  const [problem, setProblem] = useState<Problem>();
  const { data } = useQuery({
    queryKey: ["find", words, of],
    queryFn: () => get<FoundView>(`/api/find?device=${of}&words=${encodeURIComponent(words ?? "")}`),
    enabled: !!words?.trim(),
  });
  const pick = async (id: string) => {
    try {
      await onPick(id);
      setWords(undefined);
      setProblem(undefined);
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <div className="grid grid-cols-[112px_minmax(0,1fr)] items-start gap-x-3 py-1">
      <span className="small soft pt-[5px]" title={help}>
        {label}
      </span>
      {words === undefined ? (
        <span className="flex min-w-0 gap-2">
          <button
            type="button"
            className="input min-w-0 flex-1 truncate text-left"
            aria-label={label}
            title={name}
            onClick={() => {
              onBegin?.();
              setWords("");
            }}
          >
            {name || <span className="soft">{none}</span>}
          </button>
          {name && (
            <button type="button" className="button tight" aria-label={`No ${label}`} onClick={() => void pick("")}>
              None
            </button>
          )}
        </span>
      ) : (
        <span>
          <input
            className="input"
            autoFocus
            aria-label={`${label}: words of its name`}
            placeholder="words of its name"
            value={words}
            onChange={(e) => setWords(e.target.value)}
            onKeyDown={(e) => {
              if (e.key === "Escape") {
                e.stopPropagation();
                setWords(undefined);
              }
              const first = data?.points[0];
              if (e.key === "Enter" && first) void pick(first.id);
            }}
          />
          <span className="mt-1 block max-h-[200px] overflow-y-auto">
            {(data?.points ?? []).slice(0, 30).map((p) => (
              <button
                key={p.id}
                type="button"
                className="block w-full truncate py-[3px] text-left underline"
                title={`${p.deviceName} · ${p.name}`}
                onClick={() => void pick(p.id)}
              >
                {p.deviceName} · {p.name} <span className="mono soft">{p.address}</span>
              </button>
            ))}
            {words.trim() && data?.points.length === 0 && <span className="small soft">No point has these words.</span>}
          </span>
        </span>
      )}
      {problem && (
        <div className="col-span-2">
          <ProblemNotice problem={problem} />
        </div>
      )}
    </div>
  );
}
