import { useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { post, useSite } from "../api/client";
import { deviceOf } from "../api/site";
import type { Standing } from "../api/types.gen";
import { count } from "../shared/numbers";
import { attempt } from "../shared/toast";
import { titles } from "./Grid";

/** How one device stands to what was placed on it. */
export function StandingCard({ standing: s }: { standing: Standing }) {
  const { data: site } = useSite();
  const client = useQueryClient();
  const device = deviceOf(site, s.device);
  const back = (points: string[]) =>
    attempt(async () => {
      await post(`/api/devices/${s.device}/return`, { placement: s.placement.id, points });
      await client.invalidateQueries({ queryKey: ["sheets"] });
    });
  return (
    <div className="card mb-2 p-2" data-standing={s.device}>
      <div className="flex items-center gap-2">
        <Link to="/points/$device" params={{ device: s.device }} className="font-semibold underline">
          {device?.name ?? s.device}
        </Link>
        <span className={"chip ml-auto " + (s.departures.length || s.problem ? "doubt" : "note")}>
          {s.problem
            ? "not comparable"
            : s.departures.length
              ? `departs in ${count(s.departures.length, "place")}`
              : "follows"}
        </span>
      </div>
      {(s.placement.prefix || s.placement.shift) && (
        <div className="small soft">
          prefix {s.placement.prefix || "none"}, shift {s.placement.shift ?? 0}
        </div>
      )}
      {s.problem && <div className="small">{s.problem}</div>}
      {s.departures.slice(0, 12).map((d) => (
        <div key={d.point + d.name + d.column} className="small mt-1 flex gap-2">
          <span className="min-w-0 flex-1 break-words">
            <b>{d.name}</b> {d.column && (titles[d.column] ?? d.column)}:{" "}
            {d.is ? <span className="mono">{d.is}</span> : "missing"}
            {d.should && (
              <>
                {" "}
                instead of <span className="mono">{d.should}</span>
              </>
            )}
          </span>
          {d.point && d.column && (
            <button type="button" className="underline" onClick={() => void back([d.point])}>
              back
            </button>
          )}
        </div>
      ))}
      {s.departures.length > 12 && <div className="small soft">and {s.departures.length - 12} more</div>}
      {s.departures.length > 0 && (
        <button type="button" className="button tight mt-2" onClick={() => void back([])}>
          Bring everything back
        </button>
      )}
    </div>
  );
}
