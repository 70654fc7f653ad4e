import { memo, useEffect, useRef } from "react";
import { useLivePart } from "../api/live";
import type { Request, RequestStats, SiteView } from "../api/types.gen";
import { Mark, type MarkKind } from "../shared/Mark";
import { millis } from "../shared/ui";
import { count } from "../shared/numbers";

export const paceWord = (ms: number) => (ms === 0 ? "once" : ms % 1000 === 0 ? `${ms / 1000}\u2009s` : `${ms}\u2009ms`);

/** The requests of a line, planned beside measured. */
export const Requests = memo(function Requests({
  site,
  requests,
  stats,
  chosen,
  onChoose,
}: {
  site: SiteView;
  requests: Request[];
  stats: Map<string, RequestStats>;
  chosen?: string;
  onChoose: (id: string) => void;
}) {
  const running = new Set(useLivePart((live) => live.state.running));
  const names = new Map(site.devices.map((d) => [d.id, d.name]));
  const links = new Map(site.links.map((l) => [l.id, l]));
  return (
    <div className="card aside overflow-x-auto">
      <table className="rows" aria-label="Requests">
        <thead>
          <tr>
            <th>
              <span className="sr-only">State</span>
            </th>
            <th>Request</th>
            <th>Carries</th>
            <th>Pace</th>
            <th className="num">On the wire</th>
            <th className="num">Device thinks</th>
            <th className="num">Planned</th>
            <th className="num">Measured</th>
            <th className="num">Worst</th>
            <th className="num">Late</th>
            <th className="num">Slack</th>
            <th>Remark</th>
          </tr>
        </thead>
        <tbody>
          {requests.map((r) => (
            <RequestRow
              key={r.id}
              r={r}
              device={names.get(r.device)}
              limit={Number(links.get(r.link)?.settings?.["timeoutMs"] ?? 0)}
              stat={stats.get(r.id)}
              chosen={r.id === chosen}
              running={running.has(r.link)}
              onClick={() => onChoose(r.id)}
            />
          ))}
        </tbody>
      </table>
    </div>
  );
});

const RequestRow = memo(
  function RequestRow({
    r,
    device,
    limit,
    stat,
    chosen,
    running,
    onClick,
  }: {
    r: Request;
    device?: string;
    limit: number;
    stat?: RequestStats;
    chosen: boolean;
    running: boolean;
    onClick: () => void;
  }) {
    const row = useRef<HTMLTableRowElement>(null);
    useEffect(() => {
      if (chosen) row.current?.scrollIntoView({ block: "nearest" });
    }, [chosen]);
    const measured = stat && stat.count > stat.failed;
    const { kind, remark } = judge(r, stat, running, limit);
    return (
      <tr ref={row} className={chosen ? "chosen" : ""} data-request={r.id} onClick={onClick}>
        <td>
          <Mark kind={kind} label={stat?.outcome ?? "not asked yet"} />
        </td>
        <td>
          <button type="button" className="text-left font-semibold">
            {device} · {r.operation}
          </button>
        </td>
        <td>
          {count(r.points.length, "point")}
          {r.unused ? `, ${r.unused} unused read over` : ""}
        </td>
        <td className="whitespace-nowrap">{paceWord(r.paceMs)}</td>
        <td className="num">{millis(r.wireMs)}</td>
        <td className="num">{millis(r.deviceMs)}</td>
        <td className="num">{millis(r.wireMs + r.deviceMs)}</td>
        <td className="num" data-measured={measured ? stat.meanMs.toFixed(2) : ""}>
          {!stat ? "—" : measured ? millis(stat.meanMs) : "never"}
        </td>
        <td className="num">{measured ? millis(stat.worstMs) : "—"}</td>
        <td className="num">{stat ? millis(stat.lateMs) : "—"}</td>
        <td className="num" style={r.slackMs < 0 ? { color: "var(--fault)" } : undefined}>
          {r.paceMs ? millis(r.slackMs) : "—"}
        </td>
        <td className="small">
          {remark}
          {stat && stat.failed > 0 && ` ${stat.failed} of ${stat.count} failed.`}
        </td>
      </tr>
    );
  },
  (a, b) =>
    a.r === b.r &&
    a.device === b.device &&
    a.limit === b.limit &&
    a.chosen === b.chosen &&
    a.running === b.running &&
    shownOf(a.stat) === shownOf(b.stat),
);

/** What a row shows of what was measured: it is drawn again when that changes. */
const shownOf = (stat: RequestStats | undefined) =>
  stat &&
  [
    stat.outcome,
    stat.count > stat.failed,
    stat.failed && stat.count,
    stat.failed,
    ...[stat.meanMs, stat.worstMs, stat.lateMs].map(millis),
  ].join(" ");

/** What there is to say of a request: the plan first, then what was seen. */
function judge(
  r: Request,
  stat: RequestStats | undefined,
  running: boolean,
  limit: number,
): { kind: MarkKind; remark: string } {
  const planned = r.wireMs + r.deviceMs;
  if (r.silent) return { kind: "fault", remark: "taken for silent" };
  if (r.paceMs > 0 && r.slackMs < 0) return { kind: "fault", remark: "the pace cannot hold at its worst" };
  if (!stat || !running) return { kind: "not-yet", remark: "" };
  if (stat.outcome !== "answered")
    return {
      kind: "fault",
      remark: stat.outcome === "no answer" ? "silent: what it costs the others is under Advice" : stat.outcome,
    };
  if (limit && stat.worstMs - r.wireMs > 0.8 * limit)
    return {
      kind: "doubt",
      remark: `nearly late: raise “answer within” to ${Math.ceil((1.5 * stat.worstMs) / 10) * 10}\u2009ms`,
    };
  if (stat.meanMs > 1.5 * planned + 2) return { kind: "doubt", remark: "slower than planned: learn from the run" };
  return { kind: "good", remark: "" };
}
