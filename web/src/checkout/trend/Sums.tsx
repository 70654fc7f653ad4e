import type { LagView, Pen, StripView, SumView } from "../../api/types.gen";
import { Mark } from "../../shared/Mark";
import { exact, lasts, reads } from "./series";

/** The window in figures: what each pen showed, what its pace hides, how long values take to the far shore, and what
 *  is not known. */
export function Sums({ strip, sums }: { strip: StripView; sums: SumView }) {
  const pens = strip.pens;
  const gaps = sums.pens
    .flatMap((p) => p.gaps.map((g) => ({ ...g, pen: p.pen })))
    .sort((a, b) => a.fromUs - b.fromUs)
    .slice(0, 100);
  const more = sums.pens.reduce((n, p) => n + (p.moreGaps ?? 0), 0);
  const notes = strip.notes.filter((n) => n.atUs >= sums.fromUs && n.atUs <= sums.toUs);
  return (
    <>
      <div>
        <table className="rows mt-3" aria-label="In figures">
          <thead>
            <tr>
              <th>Point</th>
              <th className="num">Least</th>
              <th className="num">Mean</th>
              <th className="num">Greatest</th>
              <th className="num">Deviation</th>
              <th className="num">Changes</th>
              <th className="num">Samples</th>
              <th className="num">One each</th>
              <th className="num">Longest</th>
              <th className="num">Without value</th>
            </tr>
          </thead>
          <tbody>
            {sums.pens.map(({ pen: n, summary: s }) => {
              const pen = pens[n];
              if (!pen) return null;
              const none = s.coveredMs === 0;
              const cell = (v: number, at?: number) => (
                <td className="num" title={at ? `first at ${exact(at)}` : undefined}>
                  {none ? "" : reads({ ...pen, twoState: false }, v)}
                </td>
              );
              return (
                <tr key={n}>
                  <td className="break-words">
                    {pen.name} <span className="soft">{pen.unit}</span>
                  </td>
                  {cell(s.min, s.minAtUs)}
                  <td className="num">{none ? "" : Number(s.mean.toPrecision(6))}</td>
                  {cell(s.max, s.maxAtUs)}
                  <td className="num">{none ? "" : Number(s.deviation.toPrecision(3))}</td>
                  <td className="num">{s.changes}</td>
                  <td className="num">
                    {s.samples}
                    {s.doubtful > 0 && <span className="soft"> · {s.doubtful} doubtful</span>}
                  </td>
                  <td className="num">{s.intervalMs > 0 ? lasts(s.intervalMs * 1000) : ""}</td>
                  <td className="num">{s.longestMs > 0 ? lasts(s.longestMs * 1000) : ""}</td>
                  <td className="num">{s.gapsMs > 0 ? lasts(s.gapsMs * 1000) : ""}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      {sums.lags.map((l) => (
        <Lagged key={l.crossing} lag={l} pens={pens} />
      ))}
      {sums.pens.flatMap((p) =>
        p.seems.map((s) => (
          <div key={p.pen + s.code} className="card mt-3 flex gap-3 p-3">
            <Mark kind="doubt" size={16} />
            <div className="min-w-0">
              <b className="break-words">{pens[p.pen]?.name}</b>
              <p>{s.sentence}</p>
              <p className="small soft">{s.do}</p>
            </div>
          </div>
        )),
      )}
      {notes.map((n) => (
        <p key={n.atUs + n.sentence} className="mt-2">
          <span className="mono small">{exact(n.atUs)}</span> {n.sentence}
        </p>
      ))}
      {gaps.length > 0 && (
        <table className="rows mt-3" aria-label="Gaps">
          <thead>
            <tr>
              <th>Without value from</th>
              <th className="num">For</th>
              <th>Point</th>
              <th>Why</th>
            </tr>
          </thead>
          <tbody>
            {gaps.map((g) => (
              <tr key={`${g.pen} ${g.fromUs}`}>
                <td className="mono small">{exact(g.fromUs)}</td>
                <td className="num">{lasts(g.toUs - g.fromUs)}</td>
                <td>{pens[g.pen]?.name}</td>
                <td className="soft">{g.reason}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {more > 0 && <p className="small soft mt-1">and {more} more.</p>}
    </>
  );
}

function Lagged({ lag: view, pens }: { lag: LagView; pens: Pen[] }) {
  const l = view.lag;
  return (
    <p className="mt-3" data-testid="lag">
      <b>
        {pens[view.source]?.name} → {pens[view.far]?.name}:
      </b>{" "}
      {view.why ??
        `the far shore shows it ${lasts(l.medianMs * 1000)} later (median), 95 of 100 times within ${lasts(
          l.p95Ms * 1000,
        )}, at worst ${lasts(l.worstMs * 1000)} later, at ${exact(l.worstAtUs)}. ${l.matched} of ${l.moves} moves were told apart; as both are read only now and then, each may be up to ${lasts(l.readMs * 1000)} off.${view.waits ? ` ${view.waits}` : ""}`}
    </p>
  );
}
