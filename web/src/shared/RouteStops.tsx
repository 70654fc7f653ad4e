import type { Route } from "../api/types.gen";
import { Mark, markOf } from "./Mark";

const titles: Record<string, string> = {
  wire: "Wire",
  address: "Address",
  session: "Session",
  points: "Points",
  pace: "Pace",
};

/** The five stops of a link in a row: solid up to the fault, dotted after it. */
export function RouteStops({ route }: { route: Route }) {
  const end = route.stops.findIndex((stop) => stop.result === "fault");
  return (
    <ol className="flex" aria-label="Where does the message stop?">
      {route.stops.map((stop, i) => {
        const beyond = stop.result === "not-tried";
        return (
          <li
            key={stop.stop}
            className="relative flex flex-1 flex-col items-center gap-1"
            data-stop={stop.stop}
            data-result={stop.result}
          >
            {i > 0 && (
              <span
                aria-hidden
                className="absolute top-[10px] right-1/2 mr-[13px] h-0"
                style={{
                  width: "calc(100% - 26px)",
                  borderTop: beyond ? "3px dotted var(--rule)" : `3px solid var(--${end === i ? "fault" : "good"})`,
                }}
              />
            )}
            <Mark kind={markOf(stop.result)} size={22} label={`${titles[stop.stop]}: ${stop.result}`} />
            <span className={"small font-semibold " + (beyond ? "soft" : "")}>{titles[stop.stop]}</span>
          </li>
        );
      })}
    </ol>
  );
}

/** The same, shrunk to five small marks for lists. */
export function SmallStops({ route }: { route: Route }) {
  const worst = route.stopsAt
    ? `stops at ${titles[route.stopsAt]}`
    : route.stops.every((s) => s.result === "not-tried")
      ? "not tried"
      : "goes through";
  return (
    <span className="inline-flex items-center" role="img" aria-label={worst}>
      {route.stops.map((stop, i) => (
        <span key={stop.stop} className="inline-flex items-center" aria-hidden>
          {i > 0 && (
            <span
              className="inline-block w-[5px]"
              style={{ borderTop: `2px solid var(--${stop.result === "not-tried" ? "rule" : "notyet"})` }}
            />
          )}
          <Mark kind={markOf(stop.result)} size={11} />
        </span>
      ))}
    </span>
  );
}
