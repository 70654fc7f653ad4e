import { memo, useCallback, useMemo } from "react";
import type { Exchange, LinkView, SiteView } from "../api/types.gen";
import { count } from "../shared/numbers";
import { Empty } from "../shared/ui";
import { Rungs, type RungRow } from "./Rungs";

/** The ladder of what Ferry itself asks. */
export const Ladder = memo(function Ladder({
  site,
  links,
  list,
  chosen,
  follow,
  running,
  onChoose,
}: {
  site: SiteView;
  links: LinkView[];
  list: Exchange[];
  chosen: number;
  follow: boolean;
  running: boolean;
  onChoose: (seq: number) => void;
}) {
  const { names, askerOf, lanes } = useMemo(() => {
    const asking = [...new Set(links.map((l) => l.asking))];
    const asks = new Set(asking);
    return {
      names: new Map(site.devices.map((d) => [d.id, d.name])),
      askerOf: new Map(site.links.map((l) => [l.id, l.asking])),
      lanes: { asks, ids: [...asking, ...new Set(links.map((l) => l.answering).filter((id) => !asks.has(id)))] },
    };
  }, [site, links]);
  const row = useCallback(
    (index: number): RungRow | undefined => {
      const e = list[index];
      if (!e) return undefined;
      const report = e.outcome === "reported";
      const good = e.outcome === "answered" || e.outcome === "sent" || report;
      return {
        id: e.seq,
        atMs: Date.parse(e.at),
        from: askerOf.get(e.link) ?? "",
        to: e.device,
        after: report ? "unasked" : `+ ${e.latencyMs.toFixed(1)} ms`,
        asks: e.operation,
        says: good ? (e.write ? "taken" : e.points ? count(e.points, "point") : e.outcome) : e.sentence,
        outcome: e.outcome,
        good,
        report,
        reaches: !["refused", "unreached", "not allowed"].includes(e.outcome),
        comes: ["answered", "declined", "garbled", "reported"].includes(e.outcome),
      };
    },
    [list, askerOf],
  );
  return (
    <Rungs
      count={list.length}
      row={row}
      lanes={lanes}
      name={(id) => names.get(id) ?? id}
      chosen={chosen}
      chosenAt={list.findIndex((e) => e.seq === chosen)}
      follow={follow}
      onChoose={onChoose}
      empty={
        <Empty title="No traffic yet">
          {running
            ? "Waiting for the first exchange."
            : "Start a run under Timetable, or try a link under Lines: every exchange is shown here with its bytes."}
        </Empty>
      }
    />
  );
});
