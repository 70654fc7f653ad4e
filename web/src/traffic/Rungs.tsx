import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useEffect, useMemo, useRef, type ReactNode } from "react";
import { LongName, shortened } from "../shared/LongName";
import { useSlots } from "../shared/slots";
import { clock } from "../shared/ui";

const rowHeight = 48;

/** How many lanes stand side by side. */
const mostLanes = 14;
/** How many of those who talk in view do, where there are more; beyond that each rung has its own two names. */
const talkingLanes = 9;

/** One exchange as it is drawn: who asked whom for what, and what came of it. */
export interface RungRow {
  id: number;
  atMs: number;
  from: string; // lane of who asks
  to: string;
  after: string; // under the time: how long the answer took
  asks: string;
  says: string;
  outcome: string;
  good: boolean;
  report: boolean; // nobody asked
  reaches: boolean; // the question arrived
  comes: boolean; // something came back
}

/** Who may stand side by side, those who ask first. */
export interface Lanes {
  asks: Set<string>;
  ids: string[];
}

/** A ladder, not a packet list: each exchange is a rung from the asking end to the answering end and back. */
export const Rungs = memo(function Rungs({
  count,
  row,
  lanes: all,
  name,
  chosen,
  chosenAt,
  follow,
  onChoose,
  onView,
  empty,
}: {
  count: number;
  row: (index: number) => RungRow | undefined; // undefined for what is not here yet
  lanes: Lanes;
  name: (lane: string) => string;
  chosen: number;
  chosenAt: number; // index of the chosen one, -1 for none
  follow: boolean;
  onChoose: (id: number) => void;
  onView?: (first: number, last: number) => void;
  empty: ReactNode;
}) {
  const scroll = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => scroll.current,
    estimateSize: () => rowHeight,
    overscan: 3,
  });
  useEffect(() => {
    if (follow && count) virtual.scrollToIndex(count - 1);
    // While the list is full what is new takes the place of what is old: its end stays where it is.
    // oxlint-disable-next-line react/exhaustive-deps
  }, [count, follow]);
  useEffect(() => {
    if (chosenAt >= 0) virtual.scrollToIndex(chosenAt, { align: "center" });
    // Only when another exchange is opened.
    // oxlint-disable-next-line react/exhaustive-deps
  }, [chosen, chosenAt >= 0]);
  const shown = virtual.getVirtualItems();
  const first = shown[0]?.index ?? 0;
  const last = shown.at(-1)?.index ?? 0;
  useEffect(() => onView?.(first, last), [onView, first, last]);
  const slot = useSlots(shown.length);
  // Where there are more than can stand side by side, only those who talk in view have a lane; where these are too
  // many too, all who ask share one and all who answer another, and each rung says who they are.
  const talking = useMemo(
    () =>
      new Set(
        shown.flatMap((item) => {
          const e = row(item.index);
          return e ? [e.from, e.to] : [];
        }),
      ),
    [shown, row],
  );
  const few = all.ids.length > mostLanes ? all.ids.filter((id) => talking.has(id)) : all.ids;
  const two = few.length > (all.ids.length > mostLanes ? talkingLanes : mostLanes);
  const lanes = two ? ["asking", "answering"] : few;
  // Where many stand side by side, their names stand upright.
  const upright = lanes.length > 9;
  const at = new Map(lanes.map((id, i) => [id, ((i + 0.5) / lanes.length) * 100]));
  const share = (id: string) => (two ? (all.asks.has(id) ? 25 : 75) : (at.get(id) ?? 50));
  if (!count) return <div className="flex-1">{empty}</div>;
  return (
    <div className="flex min-h-0 flex-1 flex-col bg-sheet">
      <div className="relative ml-[108px] flex-none" style={{ height: upright ? 132 : 40 }} aria-hidden>
        {lanes.map((id) => (
          <span
            key={id}
            className={
              "small absolute -translate-x-1/2 truncate rounded border text-center font-semibold " +
              (upright ? "bottom-[6px] px-[2px] py-2" : "top-[8px] px-2 py-[2px]")
            }
            title={name(id)}
            style={{
              left: `${at.get(id)}%`,
              ...(upright
                ? { writingMode: "vertical-rl", maxHeight: 120, rotate: "180deg" }
                : { maxWidth: `${100 / lanes.length - 1}%` }),
              background: all.asks.has(id) || id === "asking" ? "var(--bar)" : "var(--sheet)",
              color: all.asks.has(id) || id === "asking" ? "var(--bar-text)" : undefined,
              borderColor: "var(--ink)",
            }}
          >
            {two ? (
              id === "asking" ? (
                "asking ends"
              ) : (
                "answering ends"
              )
            ) : upright ? (
              shortened(name(id), 17)
            ) : (
              <LongName name={name(id)} />
            )}
          </span>
        ))}
      </div>
      <div className="relative min-h-0 flex-1">
        <svg
          className="pointer-events-none absolute inset-y-0 left-[108px] h-full w-[calc(100%-108px)]"
          preserveAspectRatio="none"
          aria-hidden
        >
          {lanes.map((id) => (
            <line
              key={id}
              x1={`${at.get(id)}%`}
              x2={`${at.get(id)}%`}
              y1="0"
              y2="100%"
              stroke="var(--rule)"
              strokeWidth="2"
            />
          ))}
        </svg>
        <div ref={scroll} className="absolute inset-0 overflow-y-auto" role="list" aria-label="Exchanges">
          <div className="relative" style={{ height: virtual.getTotalSize() }}>
            {shown.map((item) => {
              const e = row(item.index);
              if (!e) return null;
              const a = share(e.from);
              const b = share(e.to);
              // Between lanes that lie close the words stand beside the arrows.
              const close = Math.abs(b - a) < 24;
              const words = close
                ? { left: `calc(${Math.max(a, b)}% + 10px)` }
                : { left: `${(a + b) / 2}%`, transform: "translateX(-50%)" };
              const { report, good, reaches, comes } = e;
              const ink = good ? "var(--tide)" : "var(--fault)";
              return (
                <div
                  key={slot(item.index)}
                  role="listitem"
                  className="absolute w-full"
                  style={{ contain: "strict", top: item.start, height: rowHeight }}
                >
                  <button
                    type="button"
                    className="flex h-full w-full"
                    data-exchange={e.id}
                    data-outcome={e.outcome}
                    onClick={() => onChoose(e.id)}
                    style={{
                      background: chosen === e.id ? "var(--tide-wash)" : good ? undefined : "var(--fault-wash)",
                    }}
                  >
                    <span className="mono soft block w-[108px] flex-none py-[3px] pl-3 text-left">
                      {clock(e.atMs)}
                      <br />
                      <span style={{ color: good ? undefined : "var(--fault)" }}>{e.after}</span>
                    </span>
                    <span className="relative block flex-1">
                      <svg className="absolute inset-0 h-full w-full" preserveAspectRatio="none" aria-hidden>
                        {!report && (
                          <line
                            x1={`${a}%`}
                            x2={`${reaches ? b : a + (b - a) * 0.6}%`}
                            y1="14"
                            y2="20"
                            stroke="var(--ink)"
                            strokeWidth="1.600"
                          />
                        )}
                        {comes && <line x1={`${b}%`} x2={`${a}%`} y1="32" y2="40" stroke={ink} strokeWidth="1.600" />}
                      </svg>
                      {two && (
                        <span className="small absolute top-[12px] left-0 w-[calc(25%-10px)] text-right font-semibold">
                          <span className="inline-flex max-w-full justify-end">
                            <LongName name={name(e.from)} />
                          </span>
                        </span>
                      )}
                      {two && (
                        <span className="small absolute top-[12px] left-[calc(75%+10px)] w-[calc(25%-24px)] text-left font-semibold">
                          <LongName name={name(e.to)} />
                        </span>
                      )}
                      {!report && (
                        <Head
                          at={reaches ? b : a + (b - a) * 0.6}
                          y={20}
                          right={b > a}
                          colour="var(--ink)"
                          cross={!reaches}
                        />
                      )}
                      {comes && <Head at={a} y={40} right={a > b} colour={ink} />}
                      <span
                        className="small absolute top-[1px] truncate px-1 font-semibold"
                        style={{
                          ...words,
                          background:
                            chosen === e.id ? "var(--tide-wash)" : good ? "var(--sheet)" : "var(--fault-wash)",
                          maxWidth: "64%",
                        }}
                      >
                        {e.asks}
                      </span>
                      <span
                        className="small absolute top-[23px] truncate px-1"
                        style={{
                          ...words,
                          color: ink,
                          background:
                            chosen === e.id ? "var(--tide-wash)" : good ? "var(--sheet)" : "var(--fault-wash)",
                          maxWidth: "64%",
                        }}
                      >
                        {e.says}
                      </span>
                    </span>
                  </button>
                </div>
              );
            })}
          </div>
        </div>
      </div>
    </div>
  );
});

/** An arrow head, or a cross where the message goes no further. */
function Head({
  at,
  y,
  right,
  colour,
  cross,
}: {
  at: number;
  y: number;
  right: boolean;
  colour: string;
  cross?: boolean;
}) {
  return (
    <svg
      width="12"
      height="12"
      className="absolute"
      style={{ left: `calc(${at}% - ${cross ? 6 : right ? 12 : 0}px)`, top: y - 6 }}
      aria-hidden
    >
      {cross ? (
        <path d="M2 2l8 8M10 2l-8 8" stroke="var(--fault)" strokeWidth="2.400" />
      ) : (
        <path d={right ? "M2 1l10 5-10 5z" : "M10 1L0 6l10 5z"} fill={colour} />
      )}
    </svg>
  );
}
