import { memo } from "react";
import type { Load, SiteView } from "../api/types.gen";
import { count } from "../shared/numbers";
import { millis } from "../shared/ui";

/** How many loads are listed; the rest is told by its number. */
const mostListed = 100;

const causes: Record<string, string> = {
  reported: "the device sends it",
  event: "the device sends it on change, at a rate that is assumed",
  written: "a crossing writes it, at most this often",
  cyclic: "others on the line send it",
};

/** What takes the time of a line besides the requests. */
export const Loads = memo(function Loads({ site, loads }: { site: SiteView; loads: Load[] }) {
  if (!loads.length) return null;
  const names = new Map(site.devices.map((d) => [d.id, d.name]));
  return (
    <>
      <h2 className="mt-5 mb-2">Besides the requests</h2>
      <div className="card aside overflow-x-auto">
        <table className="rows" aria-label="Besides the requests">
          <thead>
            <tr>
              <th>What</th>
              <th>Why</th>
              <th>Carries</th>
              <th className="num">Every</th>
              <th className="num">Octets</th>
              <th className="num">Holds the line</th>
              <th className="num">Share</th>
            </tr>
          </thead>
          <tbody>
            {loads.slice(0, mostListed).map((l, i) => (
              <tr key={i}>
                <td>{[names.get(l.device ?? ""), l.title].filter(Boolean).join(" · ")}</td>
                <td className="small">{causes[l.cause] ?? l.cause}</td>
                <td className="whitespace-nowrap">{l.points.length ? count(l.points.length, "point") : "—"}</td>
                <td className="num">{millis(l.periodMs)}</td>
                <td className="num">{l.octets}</td>
                <td className="num">{millis(l.holdsMs)}</td>
                <td className="num">{`${(100 * l.share).toFixed(l.share < 0.1 ? 2 : 0)}\u2009%`}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {loads.length > mostListed && <p className="small soft mt-1">and {loads.length - mostListed} more</p>}
    </>
  );
});
