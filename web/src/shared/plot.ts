import type uPlot from "uplot";

/** How the axes of every chart look, by the theme in view. */
export function axisStyle(): uPlot.Axis {
  const css = getComputedStyle(document.documentElement);
  return {
    stroke: css.getPropertyValue("--ink2"),
    grid: { stroke: css.getPropertyValue("--rule"), width: 1 },
    ticks: { show: false },
    font: "12px Atkinson Hyperlegible Mono",
  };
}
