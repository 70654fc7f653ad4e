import { useNavigate, useParams } from "@tanstack/react-router";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { post, useSite, useTimetable } from "../api/client";
import { useLiveState } from "../api/live";
import type { LinkLoad, Request, RequestStats, SiteView } from "../api/types.gen";
import { count } from "../Shell";
import { Mark } from "../shared/Mark";
import { attempt } from "../shared/toast";
import { Empty, millis } from "../shared/ui";
import { Track } from "./Track";

/** The requests compiled from the points: planned and measured, and the run. */
export function TimetablePage() {
  const { data: site } = useSite();
  const { data } = useTimetable();
  const { state } = useLiveState();
  const client = useQueryClient();
  const navigate = useNavigate();
  const { request } = useParams({ strict: false });
  if (!site || !data) return <p className="soft p-8">Compiling…</p>;
  const { plan } = data;
  const stats = new Map(data.stats.map((s) => [s.id, s]));
  const running = state.running.length;
  const run = (what: "start" | "stop", links: string[] = []) => attempt(async () => {
    await post(`/api/run/${what}`, { links });
    await client.invalidateQueries({ queryKey: ["timetable"] });
  });
  if (plan.requests.length === 0)
    return <div className="flex-1"><Empty title="Nothing to ask yet">The timetable is compiled from the points of the devices that a link asks. Add a link under Lines and points under Points.</Empty></div>;
  const busiest = plan.links.reduce<LinkLoad | undefined>((a, b) => (a && a.utilisation >= b.utilisation ? a : b), undefined);
  const points = plan.requests.reduce((n, r) => n + r.points.length, 0);
  const least = plan.requests.filter((r) => r.paceMs > 0).reduce<Request | undefined>((a, b) => (a && a.slackMs <= b.slackMs ? a : b), undefined);
  const nameOf = (link: string) => site.devices.find((d) => d.id === site.links.find((l) => l.id === link)?.answering)?.name ?? link;
  const asked = data.stats.reduce((n, s) => n + s.count, 0);
  const failed = data.stats.reduce((n, s) => n + s.failed, 0);
  return (
    <div className="min-w-0 flex-1 overflow-y-auto p-4">
      <div className="mb-3 flex items-center gap-3">
        <h2>{running ? `${running} of ${site.links.length} links run on the ${state.mode}` : "Nothing runs"}</h2>
        {asked > 0 && <span className="small soft">{count(asked, "request")} asked, {failed ? `${failed} without a value` : "every one answered"}</span>}
        <span className="ml-auto flex gap-2">
          <button type="button" className={"button " + (running < site.links.length ? "main" : "")} disabled={running === site.links.length} onClick={() => void run("start")}>Start the run</button>
          <button type="button" className="button" disabled={!running} onClick={() => void run("stop")}>Stop the run</button>
        </span>
      </div>
      <div className="mb-4 grid grid-cols-4 gap-3">
        <Figure title="Busiest connection" value={`${(100 * (busiest?.utilisation ?? 0)).toFixed(1)}\u2009%`} note={busiest ? nameOf(busiest.link) : ""} fault={(busiest?.utilisation ?? 0) > 1} />
        <Figure title="Least slack" value={least ? millis(least.slackMs) : "—"} note={least ? `${nameOf(least.link)}, pace ${pace(least.paceMs)}` : "nothing is paced"} fault={(least?.slackMs ?? 0) < 0} />
        <Figure title="Requests a round" value={String(plan.requests.length)} note={`for ${count(points, "point")}, as few as pay`} />
        <Figure title="Does every pace hold?" value={plan.lines.every((l) => l.holds) ? "yes" : "no"} note="in the worst case, by the plan" fault={!plan.lines.every((l) => l.holds)} />
      </div>
      {site.lines.map((line) => <Track key={line.id} site={site} line={line.id} plan={plan} stats={stats} chosen={request} onChoose={(id) => void navigate({ to: "/timetable/$request", params: { request: id } })} />)}
      <div className="card overflow-x-auto">
        <table className="rows" aria-label="Requests">
          <thead><tr><th aria-label="State" /><th>Request</th><th>Carries</th><th>Pace</th><th className="num">On the wire</th><th className="num">Device thinks</th><th className="num">Planned</th><th className="num">Measured</th><th className="num">Worst</th><th className="num">Asked</th><th className="num">Slack</th></tr></thead>
          <tbody>
            {plan.requests.map((r) => <RequestRow key={r.id} r={r} site={site} stat={stats.get(r.id)} chosen={r.id === request} running={state.running.includes(r.link)} onClick={() => void navigate({ to: "/timetable/$request", params: { request: r.id } })} />)}
          </tbody>
        </table>
      </div>
    </div>
  );
}

function Figure({ title, value, note, fault }: { title: string; value: string; note: string; fault?: boolean }) {
  return (
    <div className="card p-3">
      <div className="small soft">{title}</div>
      <div className="truncate"><b className={"text-[20px] " + (fault ? "text-fault" : "")}>{value}</b> <span className="small soft">{note}</span></div>
    </div>
  );
}

const pace = (ms: number) => (ms === 0 ? "once" : ms % 1000 === 0 ? `${ms / 1000}\u2009s` : `${ms}\u2009ms`);

function RequestRow({ r, site, stat, chosen, running, onClick }: { r: Request; site: SiteView; stat?: RequestStats; chosen: boolean; running: boolean; onClick: () => void }) {
  const row = useRef<HTMLTableRowElement>(null);
  useEffect(() => {
    if (chosen) row.current?.scrollIntoView({ block: "nearest" });
  }, [chosen]);
  const device = site.devices.find((d) => d.id === r.device)?.name;
  const state = !stat || !running ? "not-yet" : stat.outcome === "answered" ? (stat.worstMs > r.wireMs + r.deviceMs + Math.max(20, r.slackMs) ? "doubt" : "good") : "fault";
  return (
    <tr ref={row} className={chosen ? "chosen" : ""} data-request={r.id} onClick={onClick}>
      <td><Mark kind={state} label={stat?.outcome ?? "not asked yet"} /></td>
      <td><button type="button" className="text-left font-semibold">{device} · {r.operation}</button></td>
      <td>{count(r.points.length, "point")}{r.unused ? `, ${r.unused} unused read over` : ""}</td>
      <td className="whitespace-nowrap">{pace(r.paceMs)}</td>
      <td className="num">{r.wireMs.toFixed(3)}{"\u2009"}ms</td>
      <td className="num">{millis(r.deviceMs)}</td>
      <td className="num">{millis(r.wireMs + r.deviceMs)}</td>
      <td className="num" data-measured={stat && stat.count > stat.failed ? stat.meanMs.toFixed(2) : ""}>{!stat ? "—" : stat.count > stat.failed ? millis(stat.meanMs) : "never"}</td>
      <td className="num">{stat && stat.count > stat.failed ? millis(stat.worstMs) : "—"}</td>
      <td className="num">{stat ? `${stat.count}${stat.failed ? `, ${stat.failed} failed` : ""}` : "—"}</td>
      <td className="num">{r.paceMs ? millis(r.slackMs) : "—"}</td>
    </tr>
  );
}
