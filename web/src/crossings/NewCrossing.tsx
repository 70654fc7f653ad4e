import { useState } from "react";
import { newId, problemOf, useEdit, usePoints } from "../api/client";
import type { Problem, SiteView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { ProblemNotice } from "../shared/ui";
import { factor, readDeadband } from "./rules";

function PointChoice({
  site,
  label,
  point,
  onPoint,
  writable,
}: {
  site: SiteView;
  label: string;
  point: string;
  onPoint: (id: string) => void;
  writable?: boolean;
}) {
  const [chosen, setChosen] = useState(""); // a device, and one of its maps where it has several
  const [device, map] = chosen.split("|");
  const { data } = usePoints(device || undefined, map);
  const access = data?.columns.indexOf("access") ?? -1;
  return (
    <span className="flex min-w-0 flex-1 flex-col gap-1">
      <span className="small soft font-semibold">{label}</span>
      <select
        className="input"
        aria-label={`${label}: device`}
        value={chosen}
        onChange={(e) => {
          setChosen(e.target.value);
          onPoint("");
        }}
      >
        <option value="">device…</option>
        {site.devices
          .filter((d) => d.pointCount > 0)
          .flatMap((d) =>
            d.maps.map((name, i) => (
              <option key={d.id + name} value={i ? `${d.id}|${name}` : d.id} title={d.name}>
                {shortened(d.name, 36)}
                {i ? ` · ${site.protocols.find((p) => p.name === name)?.title ?? name}` : ""}
              </option>
            )),
          )}
      </select>
      <select
        className="input"
        aria-label={`${label}: point`}
        value={point}
        disabled={!data}
        onChange={(e) => onPoint(e.target.value)}
      >
        <option value="">point…</option>
        {data?.rows
          .filter((r) => !writable || r.cells[access] !== "r")
          .map((r) => (
            <option key={r.id} value={r.id}>
              {r.cells[0]} · {r.cells[1]}
            </option>
          ))}
      </select>
    </span>
  );
}

/** A crossing that is begun: two points, and what happens on the way. */
export function NewCrossing({ site, onDone }: { site: SiteView; onDone: (id?: string) => void }) {
  const edit = useEdit();
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const [scale, setScale] = useState("");
  const [deadband, setDeadband] = useState("");
  const [beats, setBeats] = useState(false);
  const [problem, setProblem] = useState<Problem>();
  const add = async () => {
    try {
      const id = newId();
      await edit("added a crossing", [
        {
          kind: "crossing",
          id,
          base: 0,
          after: beats ? { id, to, beatMs: 1000 } : { id, from, to, factor: factor(scale), ...readDeadband(deadband) },
        },
      ]);
      onDone(id);
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <section className="card mb-4 p-3" aria-label="New crossing">
      <div className="flex items-start gap-3">
        <span className="flex min-w-0 flex-1 flex-col gap-1">
          {!beats && <PointChoice site={site} label="From" point={from} onPoint={setFrom} />}
          <label className="small flex items-center gap-2">
            <input type="checkbox" checked={beats} onChange={(e) => setBeats(e.target.checked)} />
            Ferry&rsquo;s heartbeat, for whoever watches that it is alive
          </label>
        </span>
        <span className="flex w-[150px] flex-col gap-1">
          <span className="small soft font-semibold">on the way</span>
          <input
            className="input mono"
            aria-label="Scale"
            placeholder="scale, × 1"
            disabled={beats}
            value={scale}
            onChange={(e) => setScale(e.target.value)}
          />
          <input
            className="input mono"
            aria-label="Deadband"
            placeholder="moves by"
            disabled={beats}
            value={deadband}
            onChange={(e) => setDeadband(e.target.value)}
          />
        </span>
        <PointChoice site={site} label="To" point={to} onPoint={setTo} writable />
      </div>
      {problem && <ProblemNotice problem={problem} />}
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="button" onClick={() => onDone()}>
          Give up
        </button>
        <button type="button" className="button main" disabled={!(beats || from) || !to} onClick={() => void add()}>
          Carry it across
        </button>
      </div>
    </section>
  );
}
