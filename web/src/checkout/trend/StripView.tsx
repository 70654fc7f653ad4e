import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useEffect, useMemo, useState } from "react";
import { get, post } from "../../api/client";
import type { ChartView, StripView as Listed, SumView } from "../../api/types.gen";
import { attempt } from "../../shared/toast";
import { arriving, Pane } from "./Pane";
import { Line, Readout } from "./Readout";
import { Sums } from "./Sums";
import { panesOf, exact, lasts, second } from "./series";

/** What is in view: the last so long, going on with the recording, or from one time to another. */
type View = { last: number } | { from: number; to: number };

const most = 24;

/** One trend: its pens over a window that is zoomed and scrolled, also while it is being recorded. */
export function StripView({ strip }: { strip: Listed }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const records = strip.toUs === 0;
  const [view, setView] = useState<View>({ last: records ? 120 * second : 1e16 });
  const [chosen, setChosen] = useState(() => strip.pens.map((_p, n) => n).slice(0, 8));
  const [cursor, setCursor] = useState<number>();
  const [mark, setMark] = useState<number>();
  const follows = "last" in view;
  const range = follows ? `last=${view.last}` : `from=${view.from}&to=${view.to}`;
  const pens = chosen.join(",");
  const at = `/api/trends/${strip.id}`;
  const goes = records && follows;
  const { data: chart } = useQuery({
    queryKey: ["trends", strip.id, "chart", range, pens],
    queryFn: () => get<ChartView>(`${at}/chart?${range}&pens=${pens}&columns=1200`),
    enabled: chosen.length > 0,
    refetchInterval: goes ? 1000 : false,
    placeholderData: keepPreviousData,
  });
  const { data: sums } = useQuery({
    queryKey: ["trends", strip.id, "sums", range, pens],
    queryFn: () => get<SumView>(`${at}/sums?${range}&pens=${pens}`),
    enabled: chosen.length > 0,
    refetchInterval: goes ? 5000 : false,
    placeholderData: keepPreviousData,
  });
  const colours = useMemo(() => new Map(chosen.map((n, i) => [n, i])), [chosen]);
  const panes = useMemo(() => panesOf(strip.pens, chosen), [strip.pens, chosen]);
  const end = chart?.endUs ?? strip.toUs;
  /** Looks at another window; one that reaches the end goes on with it. */
  const show = (from: number, to: number) => {
    const span = Math.min(Math.max(to - from, 20_000), Math.max(end - strip.fromUs, second));
    const start = Math.max(strip.fromUs, Math.min(from, end - span));
    setView({ from: Math.round(start), to: Math.round(start + span) });
  };
  const [from, to] = [chart?.fromUs ?? strip.fromUs, chart?.toUs ?? end];
  const zoom = (factor: number, about = (from + to) / 2) =>
    show(about - (about - from) * factor, about + (to - about) * factor);
  const move = (share: number) => show(from + (to - from) * share, to + (to - from) * share);
  useEffect(() => {
    const pressed = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (target.closest("input, select, textarea, [role=dialog]") || e.ctrlKey || e.metaKey || e.altKey) return;
      const act: Record<string, () => void> = {
        ArrowLeft: () => move(-0.25),
        ArrowRight: () => move(0.25),
        "+": () => zoom(0.5),
        "-": () => zoom(2),
        Home: () => setView({ last: 1e16 }),
        End: () => setView({ last: Math.max(second, to - from) }),
        Escape: () => setMark(undefined),
      };
      const does = act[e.key];
      if (!does) return;
      e.preventDefault();
      does();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  });
  const again = () => client.invalidateQueries({ queryKey: ["trends"] });
  const stop = () =>
    attempt(async () => {
      await post(`${at}/stop`);
      await again();
    });
  const remove = () =>
    attempt(async () => {
      await post(`${at}/remove`);
      await again();
      await navigate({ to: "/checkout/trends" });
    });
  const lasting: [string, number][] = [
    ["10 s", 10],
    ["2 min", 120],
    ["10 min", 600],
    ["1 h", 3600],
  ];
  return (
    <section aria-label="Trend">
      <div className="flex flex-wrap items-center gap-3">
        <h2 className="min-w-0 break-words">{strip.name}</h2>
        {records && (
          <span className="small font-semibold" role="status" style={{ color: "var(--fault)" }}>
            {goes ? "being recorded" : "being recorded · the window stands still"}
          </span>
        )}
        <span className="flex-1" />
        {records ? (
          <button type="button" className="button" onClick={() => void stop()}>
            Stop recording
          </button>
        ) : (
          <button type="button" className="button" onClick={() => void remove()}>
            Remove it
          </button>
        )}
        <a
          className="button"
          download
          href={`/api/file/trends/${strip.id}.csv?${follows && view.last > 1e15 ? "" : `from=${from}&to=${to}&`}pens=${pens}`}
        >
          {follows && view.last > 1e15 ? "All of it, CSV" : "This window, CSV"}
        </a>
      </div>
      <p className="small soft">
        {new Date(strip.fromUs / 1000).toLocaleDateString("en-GB", { day: "numeric", month: "long", year: "numeric" })},{" "}
        {exact(strip.fromUs)} to {records ? "now" : exact(strip.toUs)} · {strip.mode} · {strip.who} ·{" "}
        {strip.samples.toLocaleString("en-GB").replaceAll(",", "\u2009")} samples, {(strip.octets / 1e6).toFixed(1)} MB
        {strip.why && ` · ${strip.why}`}
        {records && ` · ends by itself in ${lasts(Math.max(0, strip.untilUs - end))}`}
      </p>
      {strip.failing && (
        <div className="notice fault mt-2" role="alert">
          <b>What comes cannot be kept at the moment: {strip.failing}.</b> It waits in memory. Make room on the disk.
        </div>
      )}
      <div className="mt-2 flex flex-wrap items-center gap-1" role="toolbar" aria-label="Window">
        <button type="button" className="button tight" aria-label="Back in time" onClick={() => move(-0.5)}>
          ←
        </button>
        <button type="button" className="button tight" aria-label="On in time" onClick={() => move(0.5)}>
          →
        </button>
        <button type="button" className="button tight" aria-label="Narrower" onClick={() => zoom(0.5)}>
          +
        </button>
        <button type="button" className="button tight" aria-label="Wider" onClick={() => zoom(2)}>
          −
        </button>
        <button
          type="button"
          className="button tight"
          aria-pressed={follows && view.last > 1e15}
          onClick={() => setView({ last: 1e16 })}
        >
          All of it
        </button>
        {lasting.map(([name, s]) => (
          <button
            key={name}
            type="button"
            className="button tight"
            aria-pressed={follows && view.last === s * second}
            onClick={() => setView({ last: s * second })}
          >
            Last {name}
          </button>
        ))}
        <span className="mono small soft ml-2">
          {chart && `${exact(from).slice(0, 12)} – ${exact(to).slice(0, 12)} · ${lasts(to - from)}`}
        </span>
        <span className="flex-1" />
      </div>
      {chosen.length === 0 && <p className="soft mt-4">Choose a point below.</p>}
      {chart &&
        panes.map((pane) => (
          <div key={pane.key} className="card mt-2 p-2">
            <div className="small soft ml-1 flex flex-wrap items-center gap-x-4">
              <b>{pane.unit || "no unit"}</b>
              {pane.pens.map((n) => (
                <span key={n} className="flex items-center gap-1">
                  <Line n={colours.get(n)} /> {strip.pens[n]?.name}
                </span>
              ))}
              {chart &&
                arriving(chart, pane.pens).map((p) => (
                  <span key={`into ${p.pen}`} className="flex items-center gap-1">
                    <Line n={colours.get(p.pen)} arriving /> {strip.pens[p.pen]?.name}, as the crossing makes it
                  </span>
                ))}
            </div>
            <Pane
              view={chart}
              pens={strip.pens}
              unit={pane.unit}
              shown={pane.pens}
              colours={colours}
              states={pane.key === "states"}
              height={pane.key === "states" ? 60 + 22 * pane.pens.length : panes.length > 2 ? 138 : 230}
              mark={mark}
              onZoom={show}
              onCursor={setCursor}
              onMark={setMark}
              onWheel={(about, out) => zoom(out ? 1.4 : 0.7, about)}
            />
          </div>
        ))}
      <Readout
        strip={strip}
        chart={chart}
        chosen={chosen}
        colours={colours}
        cursor={cursor}
        mark={mark}
        onChoose={(list) => setChosen(list.slice(0, most))}
      />
      {sums && <Sums strip={strip} sums={sums} />}
    </section>
  );
}
