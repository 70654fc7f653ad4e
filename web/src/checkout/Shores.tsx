import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import uPlot from "uplot";
import { get } from "../api/client";
import type { Trend } from "../api/types.gen";
import { clock } from "../shared/ui";
import { axisStyle } from "../shared/plot";

/** The last minutes here and at the far shore, in steps: a value stands until the next one comes. */
export function Shores({ point, far, apart }: { point: string; far?: string; apart: boolean }) {
  const here = useTrend(point);
  const there = useTrend(far);
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  useEffect(() => {
    if (!box.current) return;
    const css = getComputedStyle(document.documentElement);
    const axis = axisStyle();
    const paths = uPlot.paths.stepped?.({ align: 1 });
    const made = new uPlot(
      {
        width: box.current.clientWidth,
        height: 150,
        legend: { show: false },
        cursor: { y: false },
        axes: [
          { ...axis, size: 22, space: 80, values: (_u, ticks) => ticks.map((t) => clock(t * 1000).slice(0, 8)) },
          { ...axis, size: 60, space: 26 },
          ...(apart && far
            ? [{ ...axis, scale: "far", side: 1 as const, size: 60, space: 26, grid: { show: false } }]
            : []),
        ],
        series: [
          {},
          { stroke: css.getPropertyValue("--tide"), width: 1.5, points: { show: false }, paths, spanGaps: true },
          {
            scale: apart ? "far" : "y",
            stroke: css.getPropertyValue("--series2"),
            width: 1.5,
            dash: [5, 4],
            points: { show: false },
            paths,
            spanGaps: true,
          },
        ],
        scales: { y: { range: around }, far: { range: around } },
      },
      [[], [], []],
      box.current,
    );
    plot.current = made;
    return () => made.destroy();
  }, [point, far, apart]);
  useEffect(() => {
    plot.current?.setData(joined(here, there));
  }, [here, there]);
  return (
    <section className="card mt-4 p-4" aria-label="The last minutes">
      <div className="flex items-baseline gap-3">
        <h3 className="flex-1">The last minutes</h3>
        <span className="small soft">
          {far ? `solid: here · dashed: far shore${apart ? ", on the axis at the right" : ""}` : "solid: here"}
        </span>
      </div>
      <div
        ref={box}
        className="mt-2 h-[152px]"
        role="img"
        aria-label={`${here.length} values here${far ? `, ${there.length} at the far shore` : ""}`}
      />
    </section>
  );
}

/** With some room above and below; values of two units have each its own axis. */
const around = (_u: uPlot, lo: number, hi: number): [number, number] =>
  lo === hi ? [lo - 1, hi + 1] : [lo - (hi - lo) * 0.1, hi + (hi - lo) * 0.1];

const none: Trend[] = [];

function useTrend(id: string | undefined): Trend[] {
  const { data } = useQuery({
    queryKey: ["trend", id],
    queryFn: () => get<Trend[]>(`/api/points/${id}/trend`),
    enabled: !!id,
    refetchInterval: 1000,
  });
  return data ?? none;
}

/** Two series over the times of both. */
function joined(a: Trend[], b: Trend[]): uPlot.AlignedData {
  return uPlot.join([
    [a.map((t) => t.atMs / 1000), a.map((t) => t.v)],
    [b.map((t) => t.atMs / 1000), b.map((t) => t.v)],
  ]);
}
