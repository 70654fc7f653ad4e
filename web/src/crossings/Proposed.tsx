import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { CrossingView, Pair, Proof, Proposal, Run, SiteView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { count } from "../shared/numbers";
import { arrows } from "./listed";
import { useCrossingState } from "./state";

const few = 4;

/** Pairs that are proposed, in runs of one way, to be taken or left. */
export function Proposed({
  proposal,
  action = "Pair these",
  onTake,
  onLeave,
  onMove,
}: {
  proposal: Proposal;
  action?: string;
  /** Has a run begin at another point. */
  onMove?: (run: Run) => void;
  onTake: (pairs: Pair[]) => Promise<void>;
  onLeave: () => void;
}) {
  const [left, setLeft] = useState(() => new Set(proposal.pairs.filter((p) => !p.fits).map(keyOf)));
  const [open, setOpen] = useState(() => new Set<number>());
  const taken = proposal.pairs.filter((p) => !left.has(keyOf(p)));
  const runs = grouped(proposal);
  const turn = (from: string) => {
    const next = new Set(left);
    if (!next.delete(from)) next.add(from);
    setLeft(next);
  };
  return (
    <>
      <div className="mb-3 flex items-center gap-3">
        <b>
          {count(proposal.pairs.length, "pair")} proposed, {proposal.pairs.filter((p) => p.fits).length} of them fit
        </b>
        <span className="small soft">
          {proposal.near} and {proposal.far} would stay left over
        </span>
        <span className="ml-auto flex gap-2">
          <button type="button" className="button" onClick={onLeave}>
            Leave it
          </button>
          <button type="button" className="button main" disabled={!taken.length} onClick={() => void onTake(taken)}>
            {action} {taken.length}
          </button>
        </span>
      </div>
      {proposal.refused.length > 0 && (
        <section className="notice mb-3" aria-label="Rows that make no pair">
          <b>{count(proposal.refused.length, "row")} of the table make no pair:</b>
          <ul>
            {proposal.refused.slice(0, 50).map((r) => (
              <li key={r.row}>
                row {r.row}, {r.reason}
              </li>
            ))}
            {proposal.refused.length > 50 && <li>and {proposal.refused.length - 50} more</li>}
          </ul>
        </section>
      )}
      {runs.map(({ run: of, pairs: run }, i) => {
        const bad = run.filter((p) => !p.fits);
        const shown = open.has(i) ? run.slice(0, 500) : run.slice(0, few);
        return (
          <section
            key={i}
            className="card mb-3 p-3"
            data-run={of?.title}
            style={bad.length || of?.better ? { borderColor: "var(--fault)" } : undefined}
          >
            <div className="mb-1 flex items-center gap-2">
              <b className="min-w-0 flex-1 truncate">
                {of ? of.title : run[0] && `${deviceOf(run[0])}: ${count(run.length, "point")}`}
              </b>
              <span
                className="small inline-flex items-center gap-1 rounded px-2"
                style={{ background: `var(--${bad.length || of?.better ? "fault" : "good"}-wash)` }}
              >
                <Mark kind={bad.length || of?.better ? "fault" : "good"} size={13} label="" />{" "}
                {of?.better
                  ? `moved by ${Math.abs(of.better)}`
                  : `${run.length - bad.length} of ${run.length} ${run.length === 1 ? "fits" : "fit"}`}
              </span>
            </div>
            {shown.map((p) => (
              <div key={keyOf(p)} data-pair={p.from} data-fits={p.fits}>
                <label className="flex items-center gap-2 py-[3px]">
                  <input type="checkbox" checked={!left.has(keyOf(p))} onChange={() => turn(keyOf(p))} />
                  <span className="min-w-0 flex-1 truncate" title={p.fromName}>
                    {of && <span className="mono soft">{p.fromAddress} </span>}
                    {pointOf(p.fromName)}
                  </span>
                  <span className="small soft flex-none" style={{ borderBottom: `2px ${p.fits ? "solid" : "dashed"}` }}>
                    {p.goes && <span className="mono">{arrows[p.goes]} </span>}
                    {p.way}
                    {p.shift !== undefined && of && (
                      <span className="mono" title="by how much the number on the far shore differs from the one here">
                        {" "}
                        {p.shift > 0 ? "+" : p.shift < 0 ? "−" : "±"}
                        {Math.abs(p.shift)}
                      </span>
                    )}
                  </span>
                  <span className="min-w-0 flex-1 truncate" title={p.toName}>
                    {pointOf(p.toName)} <span className="mono soft">{p.address}</span>
                  </span>
                  <Mark kind={p.fits ? "good" : "fault"} size={15} label={p.fits ? "fits" : "does not fit"} />
                </label>
                {p.sentence && <p className="small text-fault mb-1 pl-6">{p.sentence}</p>}
              </div>
            ))}
            {run.length > shown.length && (
              <button type="button" className="small underline" onClick={() => setOpen(new Set([...open, i]))}>
                and {run.length - shown.length} more, {of && "each one further on both shores: "}show them
              </button>
            )}
            {of?.sentence && (
              <p className="notice fault mt-2">
                {of.sentence}{" "}
                {onMove && (
                  <button type="button" className="underline" onClick={() => onMove(of)}>
                    Move the run by {Math.abs(of.better ?? 0)}
                  </button>
                )}
              </p>
            )}
          </section>
        );
      })}
    </>
  );
}

/** The pairs in runs that follow each other on both shores, or by the devices that they come from. */
function grouped(proposal: Proposal): { run?: Run; pairs: Pair[] }[] {
  const groups: { run?: Run; pairs: Pair[] }[] = [];
  for (const run of proposal.runs) {
    const pairs = proposal.pairs.slice(run.first, run.first + run.count);
    const last = groups.at(-1);
    if (run.sorted) groups.push({ run, pairs });
    else if (last && !last.run && pairs[0] && last.pairs[0] && deviceOf(last.pairs[0]) === deviceOf(pairs[0]))
      last.pairs.push(...pairs);
    else groups.push({ pairs });
  }
  return groups;
}

/** A point of another Ferry that is taken alone has no counterpart here. */
const keyOf = (p: Pair) => p.from || (p.to ?? "");
const deviceOf = (p: Pair) => p.fromName.slice(0, p.fromName.lastIndexOf(" · "));
const pointOf = (name: string) => name.slice(name.lastIndexOf(" · ") + 3);

/** What crosses already, in runs from one device. */
export function Paired({ site, ids, proofs }: { site: SiteView; ids: string[]; proofs: Proof[] | undefined }) {
  const proofOf = new Map(proofs?.map((p) => [p.point, p]));
  const [open, setOpen] = useState(() => new Set<string>());
  const wanted = new Set(ids);
  const runs = new Map<string, CrossingView[]>();
  for (const c of site.crossings)
    if (wanted.has(c.id)) runs.set(c.source.device, [...(runs.get(c.source.device) ?? []), c]);
  if (runs.size === 0)
    return (
      <p className="soft mx-auto mt-16 max-w-[420px] text-center">
        Nothing crosses from here to there yet. Choose one on each shore and press Enter, or have pairs proposed: by a
        table, by likeness of names, or in order.
      </p>
    );
  return [...runs].map(([device, list]) => {
    const shown = open.has(device) ? list.slice(0, 500) : list.slice(0, few);
    return (
      <section key={device} className="card mb-3 p-3">
        <b className="mb-1 block truncate">
          {list[0]?.source.name.split(" · ")[0]}: {count(list.length, "pair")}
        </b>
        {shown.map((c) => (
          <PairedRow key={c.id} crossing={c} proof={proofOf.get(c.to)} />
        ))}
        {list.length > shown.length && (
          <button type="button" className="small underline" onClick={() => setOpen(new Set([...open, device]))}>
            and {list.length - shown.length} more, show them
          </button>
        )}
      </section>
    );
  });
}

function PairedRow({ crossing, proof }: { crossing: CrossingView; proof: Proof | undefined }) {
  const { kind, words } = useCrossingState(crossing);
  const wrong = proof && proof.verdict !== "there";
  return (
    <>
      <Link
        to="/crossings/$id"
        params={{ id: crossing.id }}
        className="flex items-center gap-2 py-[3px]"
        data-verdict={proof?.verdict}
      >
        <span className="min-w-0 flex-1 truncate">{pointOf(crossing.source.name)}</span>
        <span className="small soft max-w-[40%] flex-none truncate border-b-2">{crossing.words}</span>
        <span className="min-w-0 flex-1 truncate">
          {pointOf(crossing.target.name)} <span className="mono soft">{crossing.target.address}</span>
        </span>
        <Mark kind={wrong ? "fault" : kind} size={15} label={wrong ? proof.sentence : words} />
      </Link>
      {wrong && (
        <p className="small text-fault mb-1">
          {proof.verdict}: {proof.sentence}
        </p>
      )}
    </>
  );
}
