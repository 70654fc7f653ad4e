import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";
import { useVirtualizer } from "@tanstack/react-virtual";
import { post, useSite } from "../api/client";
import { useLive, useLiveState } from "../api/live";
import type { CrossingEnd, CrossingView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { attempt } from "../shared/toast";
import { Empty, shown } from "../shared/ui";
import { CrossingPanel } from "./CrossingPanel";
import { NewCrossing } from "./NewCrossing";
import { ReleaseDialog } from "./Release";
import { useCrossingState } from "./state";

/** Two shores: a source on the left, what happens on the way, a target on the right, live values on both. */
export function CrossingsPage() {
  const { data: site } = useSite();
  const { id } = useParams({ strict: false });
  const navigate = useNavigate();
  const { state } = useLiveState();
  const [adding, setAdding] = useState(false);
  const [releasing, setReleasing] = useState(false);
  const scroller = useRef<HTMLDivElement>(null);
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const chosen = site.crossings.find((c) => c.id === id);
  const plant = state.mode === "plant";
  const run = (what: "start" | "stop") => attempt(() => post(`/api/run/${what}`, { links: [] }));
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <div className="flex flex-none items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
        <h2>Crossings</h2>
        <span className="small soft">
          {site.crossings.length
            ? `${site.crossings.length} from point to point · they carry while the links of both shores run`
            : ""}
        </span>
        <span className="ml-auto flex gap-2">
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
      <ReleaseDialog site={site} open={releasing} onClose={() => setReleasing(false)} />
      <div className="flex min-h-0 flex-1">
        <div ref={scroller} className="min-w-0 flex-1 overflow-y-auto p-4">
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
          <Rows crossings={site.crossings} chosen={id} scroller={scroller} />
        </div>
        {chosen && <CrossingPanel key={chosen.id} site={site} crossing={chosen} />}
      </div>
    </div>
  );
}

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
    estimateSize: () => 62,
    overscan: 8,
    scrollMargin: above,
    getItemKey: (i) => crossings[i]?.id ?? i,
  });
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
              key={item.key}
              ref={virtual.measureElement}
              data-index={item.index}
              className="absolute left-0 w-full"
              style={{ transform: `translateY(${item.start - above}px)` }}
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
  const live = useLive(id);
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
        <span className="soft truncate">
          {end.type} · {end.address}
        </span>
        <span className="whitespace-nowrap" data-shore={target ? "to" : "from"}>
          {read ? (
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
      <Shore end={crossing.source} id={crossing.from} chosen={chosen} />
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
