import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { get, useEdit, usePoint, useSite } from "../api/client";
import { useLive } from "../api/live";
import { deviceOf } from "../api/site";
import type { PointsView, Trend } from "../api/types.gen";
import { Levels } from "../shared/Levels";
import { Mark, markOf } from "../shared/Mark";
import { clock, Field, shown } from "../shared/ui";
import { Writer } from "../shared/Writer";
import { Fathom } from "./Fathom";
import { MapFinding } from "./Fixes";
import { axisStyle } from "../shared/plot";

/** One point: its value now, the words it came from, its trend, every notation of its address, and writing. */
export function Inspector({ id, points }: { id: string; points: PointsView }) {
  const live = useLive(id);
  const { data } = usePoint(id, Math.floor((live?.atMs ?? 0) / 500));
  const { data: site } = useSite();
  const edit = useEdit();
  if (!data) return <aside className="panel">…</aside>;
  const p = data.point;
  const device = deviceOf(site, data.device);
  const leveled = site?.protocols.some((x) => x.leveled && x.name === (p.map || device?.map));
  const decimals = (hex: string) => BigInt("0x" + hex).toString();
  const words = live?.words ? live.words.split(" ") : [];
  const findings = points.findings.filter((f) => f.subject.id === id);
  return (
    <aside className="panel" aria-label="Point" data-inspector={id}>
      <h2 className="break-words">{p.name}</h2>
      <div className="small soft mb-3">{[device?.name, data.areaTitle].filter(Boolean).join(" · ")}</div>
      <div className="mb-1 flex items-center gap-2">
        <Mark kind={markOf(live?.quality)} size={20} />
        <span className="font-mono text-[22px] font-semibold" data-testid="value">
          {live && live.atMs > 0 && live.quality !== "bad" ? shown(live) : "—"}
        </span>
        <span className="soft">{p.unit}</span>
      </div>
      <div className="small mb-3" data-testid="quality">
        <b>{live?.quality ?? "not read"}</b>
        {live?.reason ? ": " + live.reason : ""}
        {live && live.atMs > 0 && <span className="mono soft"> · {clock(live.atMs)}</span>}
        {live?.sourceMs ? <span className="soft"> · its source says {clock(live.sourceMs)}</span> : ""}
        {live?.toldMs ? <span className="soft"> · the server says {clock(live.toldMs)}</span> : ""}
      </div>
      {live?.granted && (
        <p className="small mb-3" data-testid="granted">
          Told otherwise than asked: {live.granted}.
        </p>
      )}
      {findings.map((f) => (
        <MapFinding key={f.code + (f.subject.column ?? "")} points={points} finding={f} />
      ))}
      <TrendChart id={id} />
      <h3 className="mt-4 mb-1">{data.areaTitle ? "Words" : "Octets"} it came from</h3>
      {words.length && !data.areaTitle ? (
        <p className="mono small break-words" data-testid="octets">
          {words.join("").replace(/(..)(?=.)/g, "$1 ")}
        </p>
      ) : words.length ? (
        <table className="rows mono" data-testid="words">
          <thead>
            <tr>
              <th>Hex</th>
              <th className="num">Decimal</th>
              <th className="num">Binary</th>
            </tr>
          </thead>
          <tbody>
            {words.slice(0, 8).map((w, i) => (
              <tr key={`${i}-${w}`}>
                <td>{w}</td>
                <td className="num">{decimals(w)}</td>
                <td className="num">
                  {BigInt("0x" + w)
                    .toString(2)
                    .padStart(w.length * 4, "0")
                    .replace(/(....)(?=.)/g, "$1\u2009")}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <p className="soft small">Nothing has been read yet. Start the run under Timetable, or run its link.</p>
      )}
      {data.readings.length > 0 && (
        <details className="mt-2">
          <summary className="small cursor-pointer">These words in every plausible reading</summary>
          <table className="rows" data-testid="readings">
            <tbody>
              {data.readings.map((r) => (
                <tr
                  key={r.type + r.order + (r.length ?? "")}
                  className={r.type === p.type && (r.order || "") === (p.order ?? "") ? "chosen" : ""}
                >
                  <td>
                    {r.type} {r.length ?? ""} <span className="mono">{r.order}</span>
                  </td>
                  <td className={"num break-all " + (r.likely ? "font-semibold" : "soft")}>{r.shows}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </details>
      )}
      {p.address && points.areas.some((a) => a.key === data.area && a.unitBits === 16) && (
        <Fathom key={id} points={points} view={data} />
      )}
      <h3 className="mt-4 mb-1">Its address, in every notation</h3>
      <dl className="grid grid-cols-[1fr_1fr] gap-y-1" data-testid="notations">
        {data.notations.map((n) => [
          <dt key={n.notation} className="small soft">
            {n.notation}
          </dt>,
          <dd key={n.notation + "="} className="mono">
            {n.text}
          </dd>,
        ])}
      </dl>
      <p className="small soft mt-1">Any of them can be typed into the grid.</p>
      {data.neighbours.length > 0 && (
        <>
          <h3 className="mt-3 mb-1">The bit, as neighbours count it</h3>
          <dl className="grid grid-cols-[1fr_auto] gap-y-1" data-testid="neighbours">
            {data.neighbours.map((n) => [
              <dt key={n.notation} className="small soft">
                {n.notation}
              </dt>,
              <dd key={n.notation + "="} className="mono">
                {n.text}
              </dd>,
            ])}
          </dl>
        </>
      )}
      {data.carriers.length > 1 && (
        <>
          <h3 className="mt-3 mb-1">Carried by</h3>
          <Field
            label="Link"
            value={p.link ?? ""}
            options={[
              { value: "", title: "every link that asks it" },
              ...data.carriers.map((c) => ({ value: c.link, title: c.title })),
            ]}
            onCommit={(link) =>
              edit(`chose the link that carries ${p.name}`, [
                { kind: "point", id, parent: data.device, base: data.version, after: { ...p, link } },
              ])
            }
          />
        </>
      )}
      {data.writable && <Writer id={id} unit={p.unit ?? ""} />}
      {data.writable && leveled && <Levels key={id} id={id} unit={p.unit ?? ""} />}
    </aside>
  );
}

/** The last minutes, from the recorded samples. */
function TrendChart({ id }: { id: string }) {
  const { data } = useQuery({
    queryKey: ["trend", id],
    queryFn: () => get<Trend[]>(`/api/points/${id}/trend`),
    refetchInterval: 1000,
  });
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  useEffect(() => {
    if (!box.current) return;
    const css = getComputedStyle(document.documentElement);
    const axis = axisStyle();
    const made = new uPlot(
      {
        width: box.current.clientWidth,
        height: 130,
        legend: { show: false },
        cursor: { y: false },
        padding: [8, 4, 0, 0],
        axes: [
          { ...axis, size: 22, space: 70, values: (_u, ticks) => ticks.map((t) => clock(t * 1000).slice(0, 8)) },
          { ...axis, size: 54, space: 26 },
        ],
        series: [{}, { stroke: css.getPropertyValue("--tide"), width: 1.5, points: { show: false } }],
        scales: {
          y: { range: (_u, lo, hi) => (lo === hi ? [lo - 1, hi + 1] : [lo - (hi - lo) * 0.1, hi + (hi - lo) * 0.1]) },
        },
      },
      [[], []],
      box.current,
    );
    plot.current = made;
    return () => made.destroy();
  }, [id]);
  useEffect(() => {
    if (data) plot.current?.setData([data.map((t) => t.atMs / 1000), data.map((t) => t.v)]);
  }, [data]);
  const last = data?.at(-1);
  return (
    <div
      ref={box}
      style={last ? undefined : { visibility: "hidden" }}
      role="img"
      aria-label={last ? `Trend of ${data?.length} samples, the last ${last.v}` : "No samples yet"}
      className="h-[132px]"
    />
  );
}
