import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { get, problemOf } from "../api/client";
import type { History as HistoryView } from "../api/types.gen";
import { count } from "../shared/numbers";
import { clock, ProblemNotice } from "../shared/ui";
import { queryOf, type Wanted } from "./recorded";
import { axisStyle } from "../shared/plot";

const types = ["uint16", "int16", "uint32", "int32", "float32", "float64"];

/** What a unit read over time, in the type and order in which it may be meant; a press opens the exchange. */
export function History({
  from,
  wanted,
  live = false,
  onRow,
}: {
  /** What tells it, with the conditions that stand already. */
  from: string;
  wanted: Wanted;
  live?: boolean;
  onRow: (row: number) => void;
}) {
  const [type, setType] = useState("uint16");
  const [order, setOrder] = useState("");
  const [unit, setUnit] = useState(wanted.offset ?? 0);
  useEffect(() => setUnit(wanted.offset ?? 0), [wanted.offset]);
  const filter = queryOf({ ...wanted, offset: unit, count: undefined, function: undefined });
  const { data, error } = useQuery({
    queryKey: ["history", from, filter, type, order],
    queryFn: () => get<HistoryView>(`${from}${filter}&type=${type}&order=${order}`),
    refetchInterval: live ? 2000 : false,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!box.current || !data?.readings.length) return;
    const css = getComputedStyle(document.documentElement);
    const axis = axisStyle();
    const made: uPlot = new uPlot(
      {
        width: box.current.clientWidth,
        height: 300,
        legend: { show: false },
        cursor: { y: false },
        axes: [
          { ...axis, size: 26, space: 90, values: (_u, ticks) => ticks.map((t) => clock(t * 1000).slice(0, 12)) },
          { ...axis, size: 80, space: 26, values: (_u, ticks) => ticks.map(shown) },
        ],
        series: [
          {},
          {
            stroke: css.getPropertyValue("--tide"),
            width: 1.5,
            paths: uPlot.paths.stepped?.({ align: 1 }),
            points: { show: data.readings.length < 400, size: 5 },
          },
        ],
        hooks: {
          ready: [
            (u) =>
              u.over.addEventListener("click", () => {
                const at = u.cursor.idx;
                const reading = at === null || at === undefined ? undefined : data.readings[at];
                if (reading) onRow(reading.row);
              }),
          ],
        },
      },
      [data.readings.map((r) => r.atMs / 1000), data.readings.map((r) => r.v)],
      box.current,
    );
    return () => made.destroy();
  }, [data, onRow]);
  const values = data?.readings.map((r) => r.v) ?? [];
  return (
    <div className="min-h-0 flex-1 overflow-y-auto bg-sheet p-4" aria-label="Values over time">
      <div className="mb-3 flex flex-wrap items-center gap-4">
        <label className="small soft flex items-center gap-2">
          {data?.area || wanted.area}, counted from 0{data?.place ? ` · ${data.place}` : ""}
          <input
            className="input mono !w-[90px]"
            type="number"
            min={0}
            value={unit}
            onChange={(e) => setUnit(Number(e.target.value))}
          />
        </label>
        <label className="small soft flex items-center gap-2">
          read as
          <select className="input !w-auto" aria-label="Read as" value={type} onChange={(e) => setType(e.target.value)}>
            {types.map((t) => (
              <option key={t}>{t}</option>
            ))}
          </select>
        </label>
        {(data?.orders.length ?? 0) > 1 && (
          <label className="small soft flex items-center gap-2">
            in the order
            <select
              className="input !w-auto"
              aria-label="Order"
              value={order}
              onChange={(e) => setOrder(e.target.value)}
            >
              <option value="">{data?.orders[0]}</option>
              {data?.orders.slice(1).map((o) => (
                <option key={o}>{o}</option>
              ))}
            </select>
          </label>
        )}
        <span className="small soft" data-history>
          {values.length > 0 &&
            `${count(values.length, "reading")}, from ${least(values)} to ${most(values)}; a press opens one`}
        </span>
      </div>
      {error && <ProblemNotice problem={problemOf(error)} />}
      {data && values.length === 0 && <p className="soft">No answer that fits the conditions brings this unit.</p>}
      <div ref={box} role="img" aria-label={`${values.length} readings over time`} />
    </div>
  );
}

const shown = (n: number) => Number(n.toPrecision(6)).toString();
const least = (values: number[]) => shown(values.reduce((a, b) => Math.min(a, b)));
const most = (values: number[]) => shown(values.reduce((a, b) => Math.max(a, b)));
