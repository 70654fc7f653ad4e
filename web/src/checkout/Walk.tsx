import { Link } from "@tanstack/react-router";
import { useEffect, useRef } from "react";
import { useLivePart } from "../api/live";
import type { Progress, ProvingPoint, SiteView, StopView } from "../api/types.gen";
import { Mark, type MarkKind } from "../shared/Mark";

/** How a point stands, as a mark. */
export const standing: Record<string, MarkKind> = {
  right: "good",
  wrong: "fault",
  cannot: "doubt",
  again: "stale",
  left: "not-yet",
};

const words: Record<string, string> = {
  right: "right",
  wrong: "wrong",
  cannot: "cannot be tested",
  again: "to be proved again",
  left: "not proved yet",
};

export const all = (c: Progress) => c.right + c.wrong + c.cannot + c.again + c.left;
export const done = (c: Progress) => c.left + c.again === 0;

export function sum(stops: StopView[]) {
  const total = { right: 0, wrong: 0, cannot: 0, again: 0, left: 0, all: 0 };
  for (const { counts: c } of stops) {
    total.right += c.right;
    total.wrong += c.wrong;
    total.cannot += c.cannot;
    total.again += c.again;
    total.left += c.left;
    total.all += all(c);
  }
  return total;
}

/** How many points of a device are in the list at a time. */
const most = 300;

/** The devices in walking order, the points of the one that is open, and how far they are. */
export function Walk(props: {
  site: SiteView;
  all: StopView[];
  stops: StopView[];
  scope: string;
  onScope: (scope: string) => void;
  /** On the bench: a rehearsal, which does not count on the plant. */
  rehearsed: boolean;
  leftOnly: boolean;
  onLeftOnly: (on: boolean) => void;
  device?: string;
  points: ProvingPoint[];
  point?: string;
  onOpen: (device: string, point?: string) => void;
}) {
  const { site, stops, scope, device, points, point } = props;
  const total = sum(stops);
  const cabinets = [...new Set(props.all.map((s) => s.cabinet).filter(Boolean))];
  const lines = site.lines.filter((l) => props.all.some((s) => s.line === l.id));
  const provers = useLivePart((l) => l.provers);
  const share = (n: number) => `${total.all ? (n / total.all) * 100 : 0}%`;
  const chosen = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    chosen.current?.scrollIntoView({ block: "nearest" });
  }, [point]);
  const wanted = props.leftOnly
    ? points.filter((p) => ["left", "again"].includes(p.state) || p.point === point)
    : points;
  // Of thousands those around the one that is open are drawn.
  const from = wanted.length > most ? Math.max(0, wanted.findIndex((p) => p.point === point) - most / 2) : 0;
  const shownPoints = wanted.slice(from, from + most);
  return (
    <aside
      className="flex w-[282px] flex-none flex-col border-r border-[var(--rule)] max-[1000px]:w-[232px]"
      aria-label="Walk"
    >
      <div className="p-3">
        <select className="input" aria-label="Walk past" value={scope} onChange={(e) => props.onScope(e.target.value)}>
          <option value="">The whole site</option>
          {cabinets.map((c) => (
            <option key={c} value={"c" + c}>
              {c}
            </option>
          ))}
          {lines.map((l) => (
            <option key={l.id} value={"l" + l.id}>
              {l.name}
            </option>
          ))}
        </select>
        <p className="small soft mt-2" data-testid="progress">
          {total.right} of {total.all} {props.rehearsed ? "proved on the bench" : "proved"}
          {total.wrong > 0 && ` · ${total.wrong} wrong`}
          {total.again > 0 && ` · ${total.again} to be proved again`}
        </p>
        <div
          className="mt-1 flex h-[8px] overflow-hidden rounded-full"
          style={{ background: "var(--rule)" }}
          role="img"
          aria-label={`${total.right} right, ${total.again} to be proved again, ${total.wrong} wrong, ${total.cannot} cannot be tested, ${total.left} left`}
        >
          <span style={{ width: share(total.right), background: "var(--good)" }} />
          <span style={{ width: share(total.again), background: "var(--doubt)" }} />
          <span style={{ width: share(total.wrong), background: "var(--fault)" }} />
          <span style={{ width: share(total.cannot), background: "var(--notyet)" }} />
        </div>
        <label className="small mt-2 flex items-center gap-2">
          <input type="checkbox" checked={props.leftOnly} onChange={(e) => props.onLeftOnly(e.target.checked)} />
          only what is left
        </label>
        <div className="small mt-1 flex flex-wrap gap-x-3">
          <Link to="/checkout/snapshots" className="inline-flex min-h-[26px] items-center underline">
            Snapshots
          </Link>
          <Link to="/checkout/trends" className="inline-flex min-h-[26px] items-center underline">
            Trends
          </Link>
          <Link to="/checkout/record" className="inline-flex min-h-[26px] items-center underline">
            Journal
          </Link>
          <Link to="/checkout/asleft" className="inline-flex min-h-[26px] items-center underline">
            As left
          </Link>
          <Link to="/checkout/handover" className="inline-flex min-h-[26px] items-center font-semibold underline">
            Hand over
          </Link>
        </div>
      </div>
      <nav className="min-h-0 flex-1 overflow-y-auto px-3 pb-3" aria-label="Devices and points">
        {stops
          .filter((s) => !props.leftOnly || !done(s.counts) || s.device === device)
          .map((s, i, list) => (
            <div key={s.device}>
              {(i === 0 || list[i - 1]?.cabinet !== s.cabinet) && s.cabinet && (
                <h2 className="mt-3 mb-1 text-[15px]">{s.cabinet}</h2>
              )}
              <button
                type="button"
                className={
                  "flex w-full items-baseline gap-2 py-[3px] text-left " + (s.device === device ? "font-semibold" : "")
                }
                aria-expanded={s.device === device}
                onClick={() => props.onOpen(s.device)}
              >
                <span className="min-w-0 flex-1 break-words">{s.name}</span>
                <span className="mono soft flex-none">
                  {s.counts.right}/{all(s.counts)}
                </span>
              </button>
              {s.device === device && from > 0 && <p className="small soft px-2">{from} before these</p>}
              {s.device === device &&
                shownPoints.map((p) => {
                  const others = provers.filter((w) => w.point === p.point);
                  return (
                    <button
                      key={p.point}
                      ref={p.point === point ? chosen : undefined}
                      type="button"
                      data-stand={p.state}
                      data-prove={p.name}
                      aria-current={p.point === point ? "step" : undefined}
                      className="flex w-full items-center gap-2 rounded px-2 py-[3px] text-left"
                      style={p.point === point ? { background: "var(--tide-wash)" } : undefined}
                      onClick={() => props.onOpen(s.device, p.point)}
                    >
                      <Mark kind={standing[p.state] ?? "not-yet"} size={14} label={words[p.state]} />
                      <span className="min-w-0 flex-1 break-words">{p.name}</span>
                      {others.length > 1 && (
                        <span className="small soft" title={others.map((o) => o.who).join(", ")}>
                          {others.length} here
                        </span>
                      )}
                      <span className="small soft max-w-[96px] truncate text-right">{p.changed?.[0] ?? p.says}</span>
                    </button>
                  );
                })}
              {s.device === device && wanted.length > from + most && (
                <p className="small soft px-2">{wanted.length - from - most} behind these</p>
              )}
            </div>
          ))}
      </nav>
    </aside>
  );
}
