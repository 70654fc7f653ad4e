import { useMemo, useRef, useState } from "react";
import { useVirtualizer } from "@tanstack/react-virtual";
import { post, problemOf } from "../api/client";
import { useLivePart } from "../api/live";
import type { CrossingView, Problem, Release, SiteView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { useSlots } from "../shared/slots";
import { attempt } from "../shared/toast";
import { clockDay, Dialog, ProblemNotice } from "../shared/ui";
import { seeks } from "./rules";

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
  const held = useLivePart((live) => live.state.released).find((r) => r.crossing === crossing.id);
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
  return (
    <Dialog open={open} onClose={onClose} title="Release crossings to write on the plant" wide>
      <Releasing site={site} onClose={onClose} />
    </Dialog>
  );
}

const columns = "grid grid-cols-[28px_minmax(0,1fr)_minmax(0,0.8fr)_minmax(0,1fr)_190px] items-center gap-x-3";
const rowHeight = 48;

/** All crossings, to be ticked: there may be many thousands. */
function Releasing({ site, onClose }: { site: SiteView; onClose: () => void }) {
  const released = useLivePart((live) => live.state.released);
  const held = useMemo(() => new Map(released.map((r) => [r.crossing, r])), [released]);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [sought, setSought] = useState("");
  const [minutes, setMinutes] = useState(60);
  const [problem, setProblem] = useState<Problem>();
  const scroller = useRef<HTMLDivElement>(null);
  const shownOnes = useMemo(
    () => (sought.trim() ? site.crossings.filter(seeks(sought, site)) : site.crossings),
    [site, sought],
  );
  const free = useMemo(() => shownOnes.filter((c) => !c.off && !held.has(c.id)).map((c) => c.id), [shownOnes, held]);
  const all = free.length > 0 && free.every((id) => chosen.has(id));
  const tick = (ids: string[], on: boolean) => {
    const next = new Set(chosen);
    for (const id of ids)
      if (on) next.add(id);
      else next.delete(id);
    setChosen(next);
  };
  const virtual = useVirtualizer({
    count: shownOnes.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 4,
  });
  const slot = useSlots(virtual.getVirtualItems().length);
  const go = async () => {
    try {
      await release([...chosen], minutes);
      onClose();
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <>
      <p className="mb-3">
        Each crossing that is ticked writes its target on the plant whenever its source moves, while both of its links
        run. The release ends at its time, when the crossing or one of its ends is changed, when you lock, and when you
        leave the plant.
      </p>
      {site.crossings.length > 8 && (
        <input
          className="input mb-2 w-[260px]"
          aria-label="Find crossings to release"
          placeholder="Find by name, rule, list"
          value={sought}
          onChange={(e) => setSought(e.target.value)}
        />
      )}
      <div className={`soft small pb-1 font-semibold ${columns}`}>
        <span />
        <span>From</span>
        <span>on the way</span>
        <span>Writes</span>
        <span>Now</span>
      </div>
      <div ref={scroller} className="max-h-[46vh] overflow-y-auto" role="group" aria-label="Crossings to release">
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((item) => {
            const crossing = shownOnes[item.index];
            return (
              crossing && (
                <div
                  key={slot(item.index)}
                  className={`absolute left-0 w-full border-t border-rule ${columns}`}
                  style={{ height: rowHeight, transform: `translateY(${item.start}px)` }}
                >
                  <ReleaseRow
                    crossing={crossing}
                    held={held.get(crossing.id)}
                    chosen={chosen.has(crossing.id)}
                    onTick={(on) => tick([crossing.id], on)}
                  />
                </div>
              )
            );
          })}
        </div>
      </div>
      {problem && <ProblemNotice problem={problem} />}
      <div className="mt-4 flex items-center justify-end gap-2">
        {free.length > 1 && (
          <button type="button" className="button mr-auto" onClick={() => tick(free, !all)}>
            {all ? "Tick none" : `Tick all ${free.length}`}
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
        <button type="button" className="button" onClick={onClose}>
          Close
        </button>
        <button type="button" className="button main" disabled={chosen.size === 0} onClick={() => void go()}>
          Release {chosen.size || ""}
        </button>
      </div>
    </>
  );
}

function ReleaseRow({
  crossing,
  held,
  chosen,
  onTick,
}: {
  crossing: CrossingView;
  held: Release | undefined;
  chosen: boolean;
  onTick: (on: boolean) => void;
}) {
  const state = useLivePart((live) => live.crossings[crossing.id]);
  return (
    <>
      {held ? (
        <Mark kind="good" label="released" />
      ) : (
        <input
          type="checkbox"
          aria-label={`Release ${crossing.source.name} to ${crossing.target.name}`}
          disabled={crossing.off}
          checked={chosen}
          onChange={(e) => onTick(e.target.checked)}
        />
      )}
      <span className="truncate" title={crossing.source.name}>
        {crossing.source.name}
      </span>
      <span className="small soft truncate" title={crossing.words}>
        {crossing.words}
      </span>
      <span className="min-w-0">
        <b className="block truncate" title={crossing.target.name}>
          {crossing.target.name}
        </b>
        <span className="small soft mono block truncate">{crossing.target.address}</span>
      </span>
      <span className="small">
        {held ? (
          <>
            until {clockDay(held.untilMs)}, by {held.by}{" "}
            <button
              type="button"
              className="button tight"
              onClick={() => void attempt(() => release([crossing.id], 0))}
            >
              End
            </button>
          </>
        ) : crossing.off ? (
          "switched off"
        ) : state?.count ? (
          `last wrote ${state.written}`
        ) : (
          "has not written"
        )}
      </span>
    </>
  );
}
