import { useQuery } from "@tanstack/react-query";
import { useNavigate, useParams } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { get, useSite } from "../api/client";
import { useLiveState } from "../api/live";
import type { Exchange, Finding } from "../api/types.gen";
import { FaultSelect } from "../lines/FaultSelect";
import { count } from "../Shell";
import { FindingCard, SettingFixes } from "../shared/ui";
import { BytesView } from "./BytesView";
import { Ladder } from "./Ladder";

/** Names a finding in an address. */
const keyOf = (f: Finding) => [f.code, f.subject.kind, f.subject.id].join("~");

/** Who said what to whom when, what it means to this site, and what is wrong. */
export function TrafficPage() {
  const { data: site } = useSite();
  const { findings, exchange, state } = useLiveState();
  const params = useParams({ strict: false });
  const navigate = useNavigate();
  const [link, setLink] = useState("");
  const [held, setHeld] = useState<number>();
  const at = held ?? exchange;
  const { data: list } = useQuery({ queryKey: ["exchanges", link, Math.floor(at / 3)], queryFn: () => get<Exchange[]>(link.startsWith("line:") ? `/api/exchanges?line=${link.slice(5)}` : `/api/exchanges?link=${link}`), placeholderData: (old) => old, staleTime: held ? Infinity : 0 });
  const chosen = findings.find((f) => keyOf(f) === params.key);
  useEffect(() => {
    // To follow a finding is to look at its link.
    if (chosen?.subject.kind === "link") setLink(chosen.subject.id);
  }, [chosen?.subject.kind, chosen?.subject.id]);
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const wrong = findings.filter((f) => f.severity !== "note");
  const habits = findings.filter((f) => f.severity === "note" && f.where === "traffic");
  const shown = held && list ? list.filter((e) => e.seq <= held) : (list ?? []);
  const answered = shown.filter((e) => e.outcome === "answered").length;
  return (
    <>
      <aside className="flex w-[332px] flex-none flex-col overflow-y-auto border-r border-rule p-4" aria-label="What is wrong">
        <h2 className="mb-2">What is wrong, worst first</h2>
        {wrong.length === 0 && <p className="soft mb-3">{state.running.length ? "Nothing that Ferry can see." : "Nothing in the plan. Start a run to see the traffic."}</p>}
        {wrong.map((f) => <Told key={keyOf(f) + (f.subject.column ?? "")} finding={f} chosen={f === chosen} />)}
        {habits.length > 0 && (
          <section className="pt-2">
            <h3 className="mb-1">Odd, and well all the same</h3>
            {habits.map((f) => <Told key={keyOf(f)} finding={f} chosen={f === chosen} />)}
          </section>
        )}
        {state.mode === "bench" && (
          <section className="mt-auto pt-4">
            <h3 className="mb-1">Faults of the bench</h3>
            <p className="small soft mb-1">Switch one on to see what it looks like.</p>
            {site.standIns.map((s) => <FaultSelect key={s.device} site={site} device={s.device} named />)}
          </section>
        )}
      </aside>
      <div className="flex min-w-0 flex-1 flex-col">
        <div className="flex flex-none items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
          <select className="input !w-auto max-w-[340px]" aria-label="Link" value={link} onChange={(e) => setLink(e.target.value)}>
            <option value="">every link</option>
            {site.lines.map((line) => (
              <optgroup key={line.id} label={line.name}>
                <option value={"line:" + line.id}>all of {line.name}</option>
                {site.links.filter((l) => l.line === line.id).map((l) => <option key={l.id} value={l.id}>{site.devices.find((d) => d.id === l.asking)?.name} → {site.devices.find((d) => d.id === l.answering)?.name}</option>)}
              </optgroup>
            ))}
          </select>
          <span className="small soft">{shown.length ? `the latest ${count(shown.length, "exchange")}, ${((100 * answered) / shown.length).toFixed(1)} % answered` : ""}</span>
          <button type="button" className="button tight ml-auto" aria-pressed={held !== undefined} onClick={() => setHeld(held === undefined ? exchange : undefined)}>{held === undefined ? "Hold still" : "Follow again"}</button>
        </div>
        <Ladder site={site} links={site.links.filter((l) => !link || l.id === link || "line:" + l.line === link)} list={shown} chosen={Number(params.seq)} follow={held === undefined && !params.seq} running={state.running.length > 0}
          onChoose={(seq) => { setHeld((h) => h ?? exchange); void navigate({ to: "/traffic/exchange/$seq", params: { seq: String(seq) } }); }} />
        {params.seq && <BytesView seq={params.seq} />}
      </div>
    </>
  );
}

/** A finding with what can be put right at once. */
function Told({ finding, chosen }: { finding: Finding; chosen: boolean }) {
  const navigate = useNavigate();
  const open = () => void (chosen && finding.subject.kind === "point" && finding.subject.device
    ? navigate({ to: "/points/$device/$point", params: { device: finding.subject.device, point: finding.subject.id } })
    : navigate({ to: "/traffic/finding/$key", params: { key: keyOf(finding) } }));
  return (
    <>
      <FindingCard finding={finding} chosen={chosen} onClick={open} />
      <SettingFixes finding={finding} />
    </>
  );
}
