import { usePoint, usePoints } from "../api/client";
import type { SiteView } from "../api/types.gen";
import { Fathom } from "../points/Fathom";

/** What would make the point read as its display shows: another type, order, scale or place. */
export function Explained({
  site,
  device,
  point,
  shows,
}: {
  site: SiteView;
  device: string;
  point: string;
  shows: string;
}) {
  const { data: view } = usePoint(point, 0);
  const { data: points } = usePoints(device, view?.point.map ?? "");
  if (!view || !points) return null;
  const words = points.areas.some((a) => a.key === view.area && a.unitBits === 16);
  return (
    <section className="card mt-4 p-4" aria-label="What explains it">
      <h3>What would explain it</h3>
      {words ? (
        <Fathom key={point} points={points} view={view} given={shows} />
      ) : (
        <p className="small soft mt-1">
          Its place, type and scale are on the{" "}
          <a className="underline" href={`/points/${device}/${point}`}>
            map
          </a>
          {site.links.some((l) => l.answering === device) && ", the way to it under Lines"}.
        </p>
      )}
    </section>
  );
}
