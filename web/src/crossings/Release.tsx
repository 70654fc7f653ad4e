import { useState } from "react";
import { post, problemOf } from "../api/client";
import { useLiveState } from "../api/live";
import type { CrossingView, Problem, SiteView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { attempt } from "../shared/toast";
import { clockDay, Dialog, ProblemNotice } from "../shared/ui";

/** For how long a crossing is released to write on the plant. */
const times = [
  { minutes: 15, title: "15 minutes" },
  { minutes: 60, title: "an hour" },
  { minutes: 8 * 60, title: "8 hours" },
  { minutes: 24 * 60, title: "24 hours" },
];

const release = (crossings: string[], minutes: number) => post("/api/crossings/release", { crossings, minutes });

/** On the plant, whether one crossing is released, until when and by whom. */
export function ReleaseOf({ crossing }: { crossing: CrossingView }) {
  const { state } = useLiveState();
  const held = state.released.find((r) => r.crossing === crossing.id);
  if (!held) return null;
  return (
    <div className="notice doubt mb-3 flex items-center gap-3">
      <span className="flex-1">
        Released by {held.by}; it writes until <span className="mono">{clockDay(held.untilMs)}</span>.
      </span>
      <button type="button" className="button tight" onClick={() => void attempt(() => release([crossing.id], 0))}>
        End the release
      </button>
    </div>
  );
}

/** Chooses by name which crossings may write on the plant, and for how long. */
export function ReleaseDialog({ site, open, onClose }: { site: SiteView; open: boolean; onClose: () => void }) {
  const { state, crossings } = useLiveState();
  const [chosen, setChosen] = useState<string[]>([]);
  const [minutes, setMinutes] = useState(60);
  const [problem, setProblem] = useState<Problem>();
  const held = (id: string) => state.released.find((r) => r.crossing === id);
  const close = () => {
    setChosen([]);
    setProblem(undefined);
    onClose();
  };
  const go = async () => {
    try {
      await release(chosen, minutes);
      close();
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const all = site.crossings.filter((c) => !c.off && !held(c.id)).map((c) => c.id);
  return (
    <Dialog open={open} onClose={close} title="Release crossings to write on the plant" wide>
      <p className="mb-3">
        Each crossing that is ticked writes its target on the plant whenever its source moves, while both of its links
        run. The release ends at its time, when the crossing or one of its ends is changed, when you lock, and when you
        leave the plant.
      </p>
      <div className="max-h-[46vh] overflow-y-auto">
        <table className="rows" aria-label="Crossings to release">
          <thead>
            <tr>
              <th>
                <span className="sr-only">Release</span>
              </th>
              <th>From</th>
              <th>on the way</th>
              <th>Writes</th>
              <th>Now</th>
            </tr>
          </thead>
          <tbody>
            {site.crossings.map((c) => {
              const now = held(c.id);
              return (
                <tr key={c.id}>
                  <td>
                    {now ? (
                      <Mark kind="good" label="released" />
                    ) : (
                      <input
                        type="checkbox"
                        aria-label={`Release ${c.source.name} to ${c.target.name}`}
                        disabled={c.off}
                        checked={chosen.includes(c.id)}
                        onChange={(e) =>
                          setChosen(e.target.checked ? [...chosen, c.id] : chosen.filter((id) => id !== c.id))
                        }
                      />
                    )}
                  </td>
                  <td className="break-words">{c.source.name}</td>
                  <td className="small soft">{c.words}</td>
                  <td className="break-words">
                    <b>{c.target.name}</b>
                    <div className="small soft mono">{c.target.address}</div>
                  </td>
                  <td className="small">
                    {now ? (
                      <>
                        until {clockDay(now.untilMs)}, by {now.by}{" "}
                        <button
                          type="button"
                          className="button tight"
                          onClick={() => void attempt(() => release([c.id], 0))}
                        >
                          End
                        </button>
                      </>
                    ) : c.off ? (
                      "switched off"
                    ) : crossings[c.id]?.count ? (
                      `last wrote ${crossings[c.id]?.written ?? ""}`
                    ) : (
                      "has not written"
                    )}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      {problem && <ProblemNotice problem={problem} />}
      <div className="mt-4 flex items-center justify-end gap-2">
        {all.length > 1 && (
          <button
            type="button"
            className="button mr-auto"
            onClick={() => setChosen(chosen.length === all.length ? [] : all)}
          >
            {chosen.length === all.length ? "Tick none" : `Tick all ${all.length}`}
          </button>
        )}
        <label className="small soft" htmlFor="release-time">
          for
        </label>
        <select
          id="release-time"
          className="input !w-auto"
          value={minutes}
          onChange={(e) => setMinutes(Number(e.target.value))}
        >
          {times.map((t) => (
            <option key={t.minutes} value={t.minutes}>
              {t.title}
            </option>
          ))}
        </select>
        <button type="button" className="button" onClick={close}>
          Close
        </button>
        <button type="button" className="button main" disabled={chosen.length === 0} onClick={() => void go()}>
          Release {chosen.length || ""}
        </button>
      </div>
    </Dialog>
  );
}
