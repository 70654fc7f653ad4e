import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { get } from "../api/client";
import type { GivenView } from "../api/types.gen";
import { lasted } from "./spans";
import { clock } from "./ui";

/** What clients were given last of the points of a device that Ferry is, or of one of them. */
export function Given({ device, point }: { device: string; point?: string }) {
  const about = `device=${device}${point ? `&point=${point}` : ""}`;
  const { data } = useQuery({
    queryKey: ["given", device, point],
    queryFn: () => get<GivenView[]>("/api/given?" + about),
    refetchInterval: 1000,
  });
  if (!data?.length)
    return (
      <p className="small soft mt-1">
        {point ? "Nobody has been given it yet." : "Nobody has been given anything yet."}
      </p>
    );
  return (
    <ul className="small mt-1" aria-label="Given last">
      {data.map((g) => (
        <li key={g.point} className="border-t border-rule py-2" data-given={g.point}>
          {!point && (
            <Link
              to="/points/$device/$point"
              params={{ device: g.target.device, point: g.point }}
              className="block truncate font-semibold underline"
              title={g.target.name}
            >
              <span className="mono">{g.target.address}</span>
            </Link>
          )}
          <span className="mono">
            {g.value}
            {g.target.unit && ` ${g.target.unit}`}
          </span>
          {g.quality !== "good" && ` (${g.quality}${g.reason ? ": " + g.reason : ""})`}
          {" at "}
          <span className="mono">{clock(g.atMs)}</span> {g.reported ? "in a report to" : "in an answer to"}{" "}
          <span className="mono">{g.to}</span>
          {g.count > 1 && <span className="soft">, {g.count} times in all</span>}
          <Origin given={g} />
        </li>
      ))}
    </ul>
  );
}

/** Whose value it was, how old then, and both times of it. */
function Origin({ given: g }: { given: GivenView }) {
  if (!g.from) return <span className="soft block">It is what a client wrote, or stood there from the beginning.</span>;
  const born = g.sourceMs ?? g.arrivedMs;
  return (
    <span className="block">
      of{" "}
      <Link to="/points/$device/$point" params={{ device: g.source.device, point: g.from }} className="underline">
        {g.source.name}
      </Link>{" "}
      <span className="mono">{g.source.address}</span>
      {born ? `, ${lasted(g.atMs - born)} old` : ""}
      {g.sourceMs ? (
        <>
          ; its own time <span className="mono">{clock(g.sourceMs)}</span>
        </>
      ) : (
        "; it has no time of its own"
      )}
      {g.arrivedMs ? (
        <>
          , here at <span className="mono">{clock(g.arrivedMs)}</span>
        </>
      ) : null}
    </span>
  );
}
