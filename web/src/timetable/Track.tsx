import { useQuery } from "@tanstack/react-query";
import { memo, useEffect, useRef, useState } from "react";
import { get } from "../api/client";
import { deviceOf, lineOf } from "../api/site";
import type { ActualView, Request, RequestStats, SiteView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { paceWord } from "./Requests";

const left = 150;
const rowHeight = 30;

/** Time as a track: what is planned on rails, one for each device and one for the line, beside what was measured. */
export const Track = memo(
  function Track({
    site,
    line,
    requests,
    stats,
    chosen,
    running,
    silent,
    onSilent,
    onChoose,
  }: {
    site: SiteView;
    line: string;
    requests: Request[];
    stats: Map<string, RequestStats>;
    chosen?: string;
    running: boolean;
    silent: string[];
    onSilent: (devices: string[]) => void;
    onChoose: (id: string) => void;
  }) {
    const box = useRef<HTMLDivElement>(null);
    const [width, setWidth] = useState(1200);
    const round = Math.max(250, ...requests.filter((r) => r.paceMs > 0).map((r) => Math.min(r.paceMs, 2000)));
    const [view, setView] = useState({ from: 0, span: round });
    const drag = useRef<{ x: number; from: number }>(undefined);
    useEffect(() => {
      const observer = new ResizeObserver(([entry]) => entry && setWidth(entry.contentRect.width));
      if (box.current) observer.observe(box.current);
      return () => observer.disconnect();
    }, []);
    const zoom = (factor: number, at = 0.5) =>
      setView((v) => {
        const span = Math.max(10, Math.min(60_000, v.span * factor));
        return { span, from: Math.max(0, v.from + at * (v.span - span)) };
      });
    useEffect(() => {
      // React listens to wheels passively; zooming must keep the page still.
      const node = box.current;
      const onWheel = (e: WheelEvent) => {
        if (!e.ctrlKey && Math.abs(e.deltaX) > Math.abs(e.deltaY)) return;
        if (!e.ctrlKey && !e.shiftKey) return;
        e.preventDefault();
        zoom(e.deltaY > 0 ? 1.25 : 0.8, Math.max(0, (e.offsetX - left) / (width - left)));
      };
      node?.addEventListener("wheel", onWheel, { passive: false });
      return () => node?.removeEventListener("wheel", onWheel);
    }, [width]);
    const links = site.links.filter((l) => l.line === line);
    const shared = lineOf(site, line)?.medium === "serial";
    const paces = [...new Set(requests.map((r) => r.paceMs))].toSorted((a, b) => (a || Infinity) - (b || Infinity));
    const colours = ["var(--tide)", "var(--series2)", "var(--series3)", "var(--ink2)"];
    const colour = (pace: number) => colours[Math.min(paces.indexOf(pace), colours.length - 1)];
    const x = (ms: number) => left + ((ms - view.from) / view.span) * (width - left);
    const step =
      [1, 2, 5, 10, 20, 50, 100, 250, 500, 1000, 2000, 5000, 10_000].find((n) => view.span / n <= 9) ?? 10_000;
    const ticks: number[] = [];
    for (let t = Math.ceil(view.from / step) * step; t <= view.from + view.span; t += step) ticks.push(t);
    const rails = links.filter((l) => requests.some((r) => r.link === l.id));
    const railsHeight = 24 + rails.length * rowHeight;
    const height = railsHeight + (shared ? rowHeight : 0) + 6;
    const toggle = (device: string) =>
      onSilent(silent.includes(device) ? silent.filter((d) => d !== device) : [...silent, device]);

    /** The turns of a request that are in view. */
    const turns = (r: Request) => {
      const planned = r.wireMs + r.deviceMs;
      const first = r.paceMs ? Math.max(0, Math.floor((view.from - r.offsetMs - planned) / r.paceMs)) : 0;
      const last = r.paceMs ? Math.ceil((view.from + view.span - r.offsetMs) / r.paceMs) : 0;
      return { planned, first, last };
    };
    const blocks = (r: Request, y: number, whole: boolean) => {
      const { planned, first, last } = turns(r);
      const stat = stats.get(r.id);
      // Far out, one block stands for all: a solid band says "always".
      if (last - first > 400)
        return [
          <rect
            key={r.id}
            x={left}
            width={width - left}
            y={y + 3}
            height={18}
            fill={colour(r.paceMs)}
            opacity={0.35}
          />,
        ];
      return Array.from({ length: last - first + 1 }, (_, k) => {
        const at = r.offsetMs + (first + k) * r.paceMs;
        const begin = Math.max(left, x(at));
        const end = x(at + planned);
        if (end < left || begin > width) return null;
        const mark = !whole && stat && stat.count > stat.failed ? x(at + stat.meanMs) : undefined;
        return (
          <g key={`${r.id}-${first + k}`} role="presentation" className="cursor-pointer" onClick={() => onChoose(r.id)}>
            <title>{`${r.operation}: planned ${planned.toFixed(1)} ms${stat ? `, measured ${stat.meanMs.toFixed(1)} ms` : ""}`}</title>
            <rect
              x={begin}
              width={Math.max(2, end - begin)}
              y={y + 3}
              height={18}
              rx={2}
              fill={r.silent ? "var(--fault-wash)" : colour(r.paceMs)}
              stroke={chosen === r.id ? "var(--ink)" : r.silent ? "var(--fault)" : "none"}
              strokeDasharray={r.silent ? "3 2" : undefined}
              strokeWidth={chosen === r.id ? 2 : 1}
            />
            {mark !== undefined && mark > left && (
              <line x1={mark} x2={mark} y1={y} y2={y + 24} stroke="var(--ink)" strokeWidth={2} />
            )}
          </g>
        );
      });
    };
    return (
      <section className="card mb-4 p-3" aria-label="Track">
        <div className="mb-1 flex flex-wrap items-center gap-3">
          <h2 className="h3">{lineOf(site, line)?.name}</h2>
          <span className="small soft">
            {view.span >= 1000 ? `${(view.span / 1000).toFixed(1)} s` : `${view.span.toFixed(0)} ms`} shown · drag to
            move, Ctrl and wheel to zoom · a name takes its device for silent
          </span>
          <span className="ml-auto flex items-center gap-3">
            {paces.map((p) => (
              <span key={p} className="small flex items-center gap-1">
                <span className="inline-block h-[10px] w-[10px] rounded-[2px]" style={{ background: colour(p) }} />
                {paceWord(p)}
              </span>
            ))}
            <span className="small flex items-center gap-1">
              <span className="inline-block h-[13px] w-[2px] bg-ink" />
              measured
            </span>
            <button type="button" className="button tight" aria-label="Zoom in" onClick={() => zoom(0.5)}>
              +
            </button>
            <button type="button" className="button tight" aria-label="Zoom out" onClick={() => zoom(2)}>
              −
            </button>
            <button type="button" className="button tight" onClick={() => setView({ from: 0, span: round })}>
              Start
            </button>
          </span>
        </div>
        <div
          ref={box}
          className="cursor-grab overflow-hidden"
          onPointerDown={(e) => {
            drag.current = { x: e.clientX, from: view.from };
          }}
          onPointerMove={(e) => {
            const d = drag.current;
            if (d && e.buttons)
              setView((v) => ({ ...v, from: Math.max(0, d.from - ((e.clientX - d.x) / (width - left)) * v.span) }));
          }}
          onPointerUp={() => {
            drag.current = undefined;
          }}
        >
          <svg
            width={width}
            height={height}
            role="group"
            aria-label={`${requests.length} requests on ${rails.length} rails`}
          >
            {ticks.map((t) => (
              <g key={t}>
                <line x1={x(t)} x2={x(t)} y1={18} y2={height} stroke="var(--rule)" />
                <text
                  x={x(t)}
                  y={12}
                  fontSize="12"
                  fill="var(--ink2)"
                  textAnchor={x(t) > width - 40 ? "end" : "middle"}
                  className="mono"
                >
                  {t >= 10_000 ? `${t / 1000} s` : `${t} ms`}
                </text>
              </g>
            ))}
            {rails.map((link, i) => {
              const y = 24 + i * rowHeight;
              const name = deviceOf(site, link.answering)?.name ?? "";
              const off = silent.includes(link.answering);
              return (
                <g key={link.id}>
                  <line
                    x1={left}
                    x2={width}
                    y1={y + rowHeight - 5}
                    y2={y + rowHeight - 5}
                    stroke="var(--band)"
                    strokeWidth="2"
                  />
                  {requests.filter((r) => r.link === link.id).flatMap((r) => blocks(r, y, false))}
                  <rect x={0} y={y - 2} width={left - 4} height={rowHeight - 2} fill="var(--sheet)" />
                  <g
                    role="checkbox"
                    aria-checked={off}
                    aria-label={`Take ${name} for silent`}
                    tabIndex={0}
                    className="cursor-pointer"
                    onClick={() => toggle(link.answering)}
                    onKeyDown={(e) =>
                      (e.key === " " || e.key === "Enter") && (e.preventDefault(), toggle(link.answering))
                    }
                  >
                    <text
                      x={0}
                      y={y + 17}
                      fontSize="13"
                      fill={off ? "var(--fault)" : "var(--ink)"}
                      textDecoration={off ? "line-through" : undefined}
                    >
                      {shortened(name, 20)}
                      <title>{name}</title>
                    </text>
                  </g>
                </g>
              );
            })}
            {shared && (
              <g>
                <rect x={left} width={Math.max(0, width - left)} y={railsHeight + 3} height={18} fill="var(--band)" />
                {requests.flatMap((r) => blocks(r, railsHeight, true))}
                <rect x={0} y={railsHeight - 2} width={left - 4} height={rowHeight} fill="var(--sheet)" />
                <text x={0} y={railsHeight + 17} fontSize="13" fontWeight="700" fill="var(--ink)">
                  Line
                </text>
              </g>
            )}
          </svg>
          {running && (
            <Actual line={line} width={width} requests={requests} colour={colour} links={rails.map((l) => l.id)} />
          )}
        </div>
      </section>
    );
  },
  (a, b) =>
    a.site === b.site &&
    a.line === b.line &&
    a.requests === b.requests &&
    a.chosen === b.chosen &&
    a.running === b.running &&
    a.silent === b.silent &&
    means(a.stats) === means(b.stats),
);

/** What the track shows of what was measured: the mean times, as far as they are seen. */
const means = (stats: Map<string, RequestStats>) =>
  [...stats.values()]
    .map((s) => `${s.id}${s.count > s.failed ? s.meanMs.toPrecision(1) : ""}`)
    .toSorted()
    .join(" ");

const seconds = 4;

/** What really happened in the last seconds, to the same scale on all of its width. */
function Actual({
  line,
  width,
  requests,
  colour,
  links,
}: {
  line: string;
  width: number;
  requests: Request[];
  colour: (pace: number) => string | undefined;
  links: string[];
}) {
  const { data } = useQuery({
    queryKey: ["actual", line],
    queryFn: () => get<ActualView>(`/api/lines/${line}/actual?seconds=${seconds}`),
    refetchInterval: 1000,
  });
  const pace = new Map(requests.map((r) => [r.id, r.paceMs]));
  const x = (ms: number) => left + (ms / (1000 * seconds)) * (width - left);
  const own = new Set(links);
  const mine = (data?.exchanges ?? []).filter((e) => own.has(e.link));
  // Hundreds are drawn as one shape for each colour: nobody could point at one of them.
  const crowded = mine.length > 150;
  const shapes = new Map<string, string>();
  if (crowded)
    for (const e of mine) {
      const fill = e.ok ? (colour(pace.get(e.request) ?? 0) ?? "") : "var(--fault)";
      const long = Math.max(1.5, x(e.atMs + e.ms) - x(e.atMs)).toFixed(1);
      shapes.set(fill, `${shapes.get(fill) ?? ""}M${x(e.atMs).toFixed(1)} 6h${long}v18h-${long}z`);
    }
  const paths = [...shapes];
  return (
    <svg
      width={width}
      height={rowHeight + 6}
      role="img"
      aria-label={`What happened in the last ${seconds} seconds`}
      data-testid="actual"
    >
      <rect x={left} width={Math.max(0, width - left)} y={6} height={18} fill="var(--band)" />
      {crowded && paths.map(([fill, d]) => <path key={fill} d={d} fill={fill} />)}
      {!crowded &&
        mine.map((e) => (
          <rect
            key={`${e.request}-${e.atMs}`}
            x={x(e.atMs)}
            width={Math.max(1.5, x(e.atMs + e.ms) - x(e.atMs))}
            y={6}
            height={18}
            fill={e.ok ? colour(pace.get(e.request) ?? 0) : "var(--fault)"}
            opacity={e.ok ? 1 : 0.6}
          >
            <title>{`${e.request || "a question of a person's"}: ${e.ms.toFixed(1)} ms${e.ok ? "" : ", no value"}`}</title>
          </rect>
        ))}
      <text x={0} y={20} fontSize="13" fill="var(--ink)">
        Last {seconds} s, as it was
      </text>
    </svg>
  );
}
