import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useEffect, useMemo, useRef, useState } from "react";
import { useVirtualizer } from "@tanstack/react-virtual";
import { post, useSite } from "../api/client";
import { useLive, useLivePart } from "../api/live";
import type { CrossingEnd, CrossingView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { useSlots } from "../shared/slots";
import { attempt } from "../shared/toast";
import { Empty, shown } from "../shared/ui";
import { CrossingPanel } from "./CrossingPanel";
import { NewCrossing } from "./NewCrossing";
import { ReleaseDialog } from "./Release";
import { Reword } from "./Reword";
import { seeks } from "./rules";
import { useCrossingState } from "./state";

/** Two shores: a source on the left, what happens on the way, a target on the right, live values on both. */
export function CrossingsPage() {
  const { data: site } = useSite();
  const { id } = useParams({ strict: false });
  const navigate = useNavigate();
  const state = useLivePart((live) => live.state);
  const [adding, setAdding] = useState(false);
  const [releasing, setReleasing] = useState(false);
  const [rewording, setRewording] = useState(false);
  const [sought, setSought] = useState("");
  const scroller = useRef<HTMLDivElement>(null);
  const shownOnes = useMemo(
    () => (site && sought.trim() ? site.crossings.filter(seeks(sought, site)) : (site?.crossings ?? [])),
    [site, sought],
  );
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const chosen = site.crossings.find((c) => c.id === id);
  const plant = state.mode === "plant";
  const run = (what: "start" | "stop") => attempt(() => post(`/api/run/${what}`, { links: [] }));
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <div className="flex flex-none items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
        <h2>Crossings</h2>
        {site.crossings.length > 0 && (
          <>
            <input
              className="input w-[190px]"
              aria-label="Find crossings"
              placeholder="Find by name, rule, list"
              value={sought}
              onChange={(e) => setSought(e.target.value)}
            />
            <span className="small soft whitespace-nowrap">
              {shownOnes.length < site.crossings.length && `${shownOnes.length} of `}
              {site.crossings.length}
            </span>
            <button
              type="button"
              className="button tight whitespace-nowrap"
              disabled={shownOnes.length === 0}
              onClick={() => setRewording(true)}
            >
              Rules of all shown…
            </button>
          </>
        )}
        <span className="ml-auto flex gap-2">
          <Link to="/crossings/lists" className="button">
            Lists of names{site.lists.length > 0 && ` · ${site.lists.length}`}
          </Link>
          <Link to="/crossings/pair" className="button">
            Pair many…
          </Link>
          <button type="button" className="button" onClick={() => setAdding(!adding)}>
            Add a crossing
          </button>
          {plant && site.crossings.length > 0 && (
            <button type="button" className="button" onClick={() => setReleasing(true)}>
              {state.released.length
                ? `Released: ${state.released.length} of ${site.crossings.length}`
                : "Release to write…"}
            </button>
          )}
          {state.running.length < site.links.length ||
          state.serving.length < site.devices.filter((d) => d.serving).length ? (
            <button type="button" className="button main" onClick={() => void run("start")}>
              Run on the {state.mode}
            </button>
          ) : (
            <button type="button" className="button" onClick={() => void run("stop")}>
              Stop the run
            </button>
          )}
        </span>
      </div>
      <Reword crossings={shownOnes} open={rewording} onClose={() => setRewording(false)} />
      <ReleaseDialog site={site} open={releasing} onClose={() => setReleasing(false)} />
      <div className="flex min-h-0 flex-1">
        <div ref={scroller} className="min-w-0 flex-1 overflow-y-auto p-4" data-crossings>
          {adding && (
            <NewCrossing
              site={site}
              onDone={(made) => {
                setAdding(false);
                if (made) void navigate({ to: "/crossings/$id", params: { id: made } });
              }}
            />
          )}
          {site.crossings.length === 0 && !adding && (
            <Empty title="Nothing crosses yet">
              A crossing carries one point of one device into a point of another.{" "}
              <div className="mt-3">
                <button type="button" className="button main" onClick={() => setAdding(true)}>
                  Add a crossing
                </button>
              </div>
            </Empty>
          )}
          {site.crossings.length > 0 && (
            <div className="soft small mb-1 grid grid-cols-[24px_minmax(0,1fr)_minmax(0,1fr)_minmax(0,1fr)] gap-0 font-semibold">
              <span />
              <span>From</span>
              <span className="text-center">on the way</span>
              <span className="pl-6">To</span>
            </div>
          )}
          {shownOnes.length === 0 && site.crossings.length > 0 && (
            <Empty title="No crossing has these words">
              <button type="button" className="button" onClick={() => setSought("")}>
                Show all {site.crossings.length}
              </button>
            </Empty>
          )}
          <Rows crossings={shownOnes} chosen={id} scroller={scroller} />
        </div>
        {chosen && <CrossingPanel key={chosen.id} site={site} crossing={chosen} />}
      </div>
    </div>
  );
}

/** Every row is as high: nothing in it breaks, so that none has to be measured. */
const rowHeight = 60;

/** The crossings in view: a site may have many thousands. */
function Rows({
  crossings,
  chosen,
  scroller,
}: {
  crossings: CrossingView[];
  chosen: string | undefined;
  scroller: React.RefObject<HTMLDivElement | null>;
}) {
  const navigate = useNavigate();
  const list = useRef<HTMLDivElement>(null);
  const [above, setAbove] = useState(0);
  useEffect(() => setAbove(list.current?.offsetTop ?? 0), [crossings.length]);
  const virtual = useVirtualizer({
    count: crossings.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 4,
    scrollMargin: above,
    getItemKey: (i) => crossings[i]?.id ?? i,
  });
  const slot = useSlots(virtual.getVirtualItems().length);
  const at = crossings.findIndex((c) => c.id === chosen);
  const shownOf = useRef<string>(undefined);
  useEffect(() => {
    if (at < 0 || shownOf.current === chosen) return;
    if (shownOf.current === undefined) virtual.scrollToIndex(at);
    shownOf.current = chosen;
  });
  return (
    <div ref={list} className="relative" style={{ height: virtual.getTotalSize() }}>
      {virtual.getVirtualItems().map((item) => {
        const crossing = crossings[item.index];
        return (
          crossing && (
            <div
              key={slot(item.index)}
              className="absolute left-0 w-full"
              style={{ height: rowHeight, transform: `translateY(${item.start - above}px)` }}
            >
              <CrossingRow
                crossing={crossing}
                chosen={crossing.id === chosen}
                onClick={() => void navigate({ to: "/crossings/$id", params: { id: crossing.id } })}
              />
            </div>
          )
        );
      })}
    </div>
  );
}

function Shore({ end, id, target, chosen }: { end: CrossingEnd; id: string; target?: boolean; chosen: boolean }) {
  const live = useLive(id || undefined);
  const read = live && live.atMs > 0 && live.quality !== "bad";
  return (
    <span
      className="block min-w-0 rounded-[10px] border bg-sheet px-3 py-[6px]"
      style={{
        borderColor: "var(--rule)",
        [target ? "borderRightWidth" : "borderLeftWidth"]: 5,
        [target ? "borderRightColor" : "borderLeftColor"]: target ? "var(--tide)" : "var(--ink)",
        boxShadow: chosen ? "0 0 0 2px var(--tide)" : undefined,
      }}
    >
      <b className="block truncate" title={end.name}>
        {end.name}
      </b>
      <span className="mono flex justify-between gap-2">
        <span className="soft truncate">{id ? `${end.type} · ${end.address}` : "counted by Ferry itself"}</span>
        <span className="whitespace-nowrap" data-shore={target ? "to" : "from"}>
          {!id ? null : read ? (
            <span key={live.changedMs} className="fresh rounded px-1">
              {shown(live)} {end.unit}
            </span>
          ) : (
            <span className="soft">{live?.quality === "bad" ? "cannot be read" : "not read yet"}</span>
          )}
        </span>
      </span>
    </span>
  );
}

function CrossingRow({ crossing, chosen, onClick }: { crossing: CrossingView; chosen: boolean; onClick: () => void }) {
  const { kind, words } = useCrossingState(crossing);
  const line =
    kind === "fault"
      ? "2px dashed var(--fault)"
      : kind === "not-yet"
        ? "2px solid var(--notyet)"
        : "2px solid var(--ink)";
  return (
    <button
      type="button"
      onClick={onClick}
      data-crossing={crossing.id}
      data-state={kind}
      className="mb-2 grid w-full grid-cols-[24px_minmax(0,1fr)_minmax(0,1fr)_minmax(0,1fr)] items-center text-left"
    >
      <Mark kind={kind} label={words} />
      <Shore end={crossing.source} id={crossing.from ?? ""} chosen={chosen} />
      <span className="relative flex items-center justify-center px-1">
        <span className="absolute right-[7px] left-0" style={{ borderTop: line }} aria-hidden />
        <svg className="absolute right-0" width="9" height="12" aria-hidden>
          <path d="M0 0l9 6-9 6z" fill={kind === "fault" ? "var(--fault)" : "var(--ink)"} />
        </svg>
        <span
          className="small relative max-w-[85%] truncate rounded-full border border-rule bg-sheet px-3 py-[2px]"
          title={crossing.words}
        >
          {crossing.words}
        </span>
      </span>
      <Shore end={crossing.target} id={crossing.to} target chosen={chosen} />
    </button>
  );
}
