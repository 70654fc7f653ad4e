import type { ChartView, DrawnPen, Pen, StripView } from "../../api/types.gen";
import { Mark, type MarkKind } from "../../shared/Mark";
import { exact, lasts, look, reads, standing } from "./series";

/** What each pen shows at the cursor, with the time of that sample, and what has become of it since the moment that
 *  a click held. */
export function Readout({
  strip,
  chart,
  chosen,
  colours,
  cursor,
  mark,
  onChoose,
}: {
  strip: StripView;
  chart: ChartView | undefined;
  chosen: number[];
  colours: Map<number, number>;
  cursor: number | undefined;
  mark: number | undefined;
  onChoose: (list: number[]) => void;
}) {
  const at = cursor ?? chart?.toUs;
  const toggle = (n: number) =>
    onChoose(chosen.includes(n) ? chosen.filter((c) => c !== n) : [...chosen, n].sort((a, b) => a - b));
  return (
    <table className="rows mt-3" aria-label="At the cursor">
      <thead>
        <tr>
          <th>
            <span className="sr-only">Shown</span>
          </th>
          <th>Point</th>
          <th className="num">{cursor === undefined ? "At the end" : "At the cursor"}</th>
          <th>Unit</th>
          <th className="num">Sample of</th>
          <th className="num">
            {mark !== undefined && at !== undefined ? `Since the mark, ${lasts(Math.abs(at - mark))}` : "Since a mark"}
          </th>
        </tr>
      </thead>
      <tbody>
        {strip.pens.map((pen, n) => {
          const drawn = chart?.pens.find((p) => p.pen === n && p.into === undefined);
          const here = valueAt(drawn, at);
          const then = mark === undefined ? undefined : valueAt(drawn, mark);
          return (
            <tr key={pen.point}>
              <td className="w-[1px]">
                <label className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    aria-label={`Show ${pen.name}`}
                    checked={chosen.includes(n)}
                    onChange={() => toggle(n)}
                  />
                  <Line n={colours.get(n)} />
                </label>
              </td>
              <td className="break-words">{pen.name}</td>
              <td className="num">
                {here && (
                  <span className="inline-flex items-center gap-2">
                    {here.kind !== "good" && <Mark kind={here.kind} size={13} />}
                    {here.v === undefined ? "no value" : reads(pen, here.v)}
                  </span>
                )}
              </td>
              <td className="soft">{pen.unit}</td>
              <td className="num mono small">{here && exact(here.at)}</td>
              <td className="num">{difference(pen, here?.v, then?.v)}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function difference(pen: Pen, here: number | undefined, then: number | undefined): string {
  if (here === undefined || then === undefined || pen.twoState) return "";
  const by = here - then;
  return (by > 0 ? "+" : by < 0 ? "−" : "") + reads(pen, Math.abs(by));
}

function valueAt(drawn: DrawnPen | undefined, at: number | undefined) {
  if (!drawn || at === undefined) return undefined;
  const i = standing(drawn, at);
  if (i < 0) return undefined;
  const kind: MarkKind = drawn.gaps.includes(i) ? "fault" : drawn.doubts.includes(i) ? "doubt" : "good";
  return { v: kind === "fault" ? undefined : drawn.v[i], at: drawn.atUs[i] ?? 0, kind };
}

/** How the line of a pen looks. */
export function Line({ n, arriving }: { n: number | undefined; arriving?: boolean }) {
  if (n === undefined) return <span className="inline-block w-[26px]" />;
  const { colour, dash } = look(n);
  return (
    <svg width="26" height="6" aria-hidden="true">
      <line
        x1="0"
        y1="3"
        x2="26"
        y2="3"
        stroke={colour}
        strokeWidth="2"
        strokeDasharray={arriving ? "1 3" : dash?.join(" ")}
      />
    </svg>
  );
}
