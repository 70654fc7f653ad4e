import { Link } from "@tanstack/react-router";
import { nameOf } from "../api/site";
import type { Outage, SiteView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { clock } from "../shared/ui";
import { lookUp } from "../traffic/codes";

/** When links brought nothing, and when they came back: both are recorded. */
export function Outages({ site, outages }: { site: SiteView; outages: Outage[] }) {
  if (outages.length === 0) return null;
  return (
    <section className="card mt-4 p-4" aria-label="Outages">
      <h3 className="mb-1">Outages and returns</h3>
      <table className="rows" aria-label="Outages">
        <thead>
          <tr>
            <th>
              <span className="sr-only">State</span>
            </th>
            <th>Device</th>
            <th>From</th>
            <th>Until</th>
            <th className="num">Lasted</th>
            <th className="num">Tries</th>
            <th>Why</th>
          </tr>
        </thead>
        <tbody>
          {outages
            .toReversed()
            .slice(0, 100)
            .map((o) => (
              <tr key={o.link + o.fromMs}>
                <td>
                  <Mark
                    kind={o.toMs > 0 ? "good" : o.toMs < 0 ? "not-yet" : "fault"}
                    size={14}
                    label={o.toMs > 0 ? "came back" : o.toMs < 0 ? "not known" : "still away"}
                  />
                </td>
                <td className="font-semibold">{nameOf(site, o.device)}</td>
                <td className="mono whitespace-nowrap">{clock(o.fromMs)}</td>
                <td className="mono whitespace-nowrap">
                  {o.toMs > 0 ? clock(o.toMs) : o.toMs < 0 ? "not known: Ferry was stopped" : "still away"}
                </td>
                <td className="num">{o.toMs > 0 ? `${((o.toMs - o.fromMs) / 1000).toFixed(1)}\u2009s` : "—"}</td>
                <td className="num">{o.tries}</td>
                <td className="small">
                  {o.reason}
                  {o.how && lookUp(o.how) && (
                    <>
                      {" "}
                      <Link
                        to="/traffic/codebook"
                        search={{ q: lookUp(o.how) } as never}
                        className="underline"
                        aria-label={`What it means: ${o.reason}`}
                      >
                        Codebook
                      </Link>
                    </>
                  )}
                </td>
              </tr>
            ))}
        </tbody>
      </table>
    </section>
  );
}
