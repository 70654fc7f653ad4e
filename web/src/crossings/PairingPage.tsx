import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { post, problemOf, useSite } from "../api/client";
import type {
  List,
  NamesView,
  NotedView,
  Pair,
  PairingRequest,
  PairingView,
  Problem,
  Run,
  SiteView,
} from "../api/types.gen";
import { mapProtocol } from "../api/site";
import { shortened } from "../shared/LongName";
import { count } from "../shared/numbers";
import { say } from "../shared/toast";
import { Empty, ProblemNotice } from "../shared/ui";
import { Giving } from "./Giving";
import { LeftOver } from "./LeftOver";
import { Paired, Proposed } from "./Proposed";
import { TableIn } from "./TableIn";

/** A proposal in which a run begins at another point: what it takes now, no other has. */
function merged(was: PairingView["proposal"], moved: PairingView["proposal"]): PairingView["proposal"] {
  const near = new Set(moved.pairs.map((p) => p.from));
  const far = new Set(moved.pairs.map((p) => p.to));
  const pairs: Pair[] = [];
  const runs: Run[] = [];
  for (const of of [was, moved])
    for (const run of of.runs) {
      const kept = of.pairs
        .slice(run.first, run.first + run.count)
        .filter((p) => of === moved || (!near.has(p.from) && !far.has(p.to)));
      if (kept.length) runs.push({ ...run, first: pairs.length, count: kept.length });
      pairs.push(...kept);
    }
  return { ...was, pairs, runs };
}

type Ask = Omit<PairingRequest, "from" | "to">;

/** Which points go into which: what is left over on either shore, and what is proposed between them. */
export function PairingPage() {
  const { data: site } = useSite();
  const { to, from } = useParams({ strict: false });
  const navigate = useNavigate();
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const far = site.devices.find((d) => d.id === to);
  if (!far)
    return (
      <Empty title="Pair with which device?">
        Choose the far shore: the device into whose points others are carried.
        <div className="mt-3 flex flex-col items-center gap-2">
          {site.devices
            .filter((d) => d.pointCount > 0 || d.serving)
            .map((d) => (
              <Link key={d.id} to="/crossings/pair/$to" params={{ to: d.id }} className="underline">
                {shortened(d.name, 60)}
                {d.serving ? ", which is Ferry itself" : ""}
              </Link>
            ))}
        </div>
      </Empty>
    );
  const near = from && from !== "all" ? [from] : site.devices.filter((d) => d.id !== to).map((d) => d.id);
  return (
    <Pairing
      key={`${to} ${from}`}
      site={site}
      far={far.id}
      farName={far.name}
      example={mapProtocol(site, far)?.example ?? ""}
      named={mapProtocol(site, far)?.areas.length === 0}
      served={!!far.serving}
      near={near}
      onNear={(id) => void navigate({ to: "/crossings/pair/$to/$from", params: { to: far.id, from: id } })}
      nearIs={from ?? "all"}
    />
  );
}

/** Names that are added to a list: what is left over on either side of it. */
export function AddNames() {
  const { data: site } = useSite();
  const { list: id, from } = useParams({ strict: false });
  const navigate = useNavigate();
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const list = site.lists.find((l) => l.id === id);
  const far = site.devices.find((d) => d.id === list?.far);
  if (!list || !far) return <Empty title="This list is no longer in the site">It may have been removed.</Empty>;
  const near = from && from !== "all" ? [from] : site.devices.filter((d) => d.id !== far.id).map((d) => d.id);
  return (
    <Pairing
      key={`${list.id} ${from}`}
      site={site}
      list={list}
      far={far.id}
      farName={far.name}
      example={mapProtocol(site, far)?.example ?? ""}
      named={mapProtocol(site, far)?.areas.length === 0}
      served={!!far.serving}
      near={near}
      onNear={(of) => void navigate({ to: "/crossings/lists/$list/add/$from", params: { list: list.id, from: of } })}
      nearIs={from ?? "all"}
    />
  );
}

function Pairing({
  site,
  list,
  far,
  farName,
  example,
  named,
  served,
  near,
  nearIs,
  onNear,
}: {
  site: SiteView;
  /** The list of names that pairs are put into. */
  list?: List;
  far: string;
  farName: string;
  example: string;
  /** Whether the places of the far side have names. */
  named: boolean;
  served: boolean;
  near: string[];
  nearIs: string;
  onNear: (id: string) => void;
}) {
  const client = useQueryClient();
  const [open, setOpen] = useState<"table" | "give">();
  const [proposal, setProposal] = useState<PairingView["proposal"]>();
  const [chosen, setChosen] = useState<{ near?: string; far?: string }>({});
  const [problem, setProblem] = useState<Problem>();
  const [names, setNames] = useState<NamesView>();
  const [proving, setProving] = useState(false);
  const ask = (how: Ask) => post<PairingView>("/api/pairing", { from: near, to: far, list: list?.id, ...how });
  const { data } = useQuery({
    queryKey: ["site", "pairing", site.seq, list?.id ?? far, nearIs],
    queryFn: () => ask({ how: "left" }),
    placeholderData: (before: PairingView | undefined) => before,
  });
  const propose = async (how: Ask) => {
    try {
      setProposal((await ask(how)).proposal);
      setProblem(undefined);
      setOpen(undefined);
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const take = async (pairs: Pair[], what?: string) => {
    try {
      const noted = await post<NotedView>("/api/pairing/take", {
        to: far,
        list: list?.id,
        what: what ?? "",
        pairs,
      });
      setProposal(undefined);
      setChosen({});
      setProblem(undefined);
      await client.invalidateQueries({ queryKey: ["site"] });
      say(`${noted.said} Ctrl Z takes it back as one step.`);
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const move = async (run: Run) => {
    try {
      const moved = (await ask({ how: "order", near: run.near, far: run.far, most: run.count })).proposal;
      setProposal((was) => was && merged(was, moved));
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const prove = async () => {
    setProving(true);
    try {
      setNames(await post<NamesView>(`/api/devices/${far}/names`));
      setProblem(undefined);
    } catch (error) {
      setProblem(problemOf(error));
    }
    setProving(false);
  };
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const typing = (e.target as HTMLElement).matches("input, textarea, select");
      if (e.key !== "Enter" || typing || !chosen.near || !chosen.far || proposal) return;
      e.preventDefault();
      void (async () => {
        const ordered = await ask({ how: "order", near: chosen.near, far: chosen.far, most: e.shiftKey ? 0 : 1 });
        if (e.shiftKey) setProposal(ordered.proposal);
        else await take(ordered.proposal.pairs);
      })().catch((error: unknown) => setProblem(problemOf(error)));
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  });
  const shores = data?.shores;
  const kindOf = (side: "near" | "far") => shores?.[side].find((c) => c.id === chosen[side])?.kind;
  const begun = chosen.near ?? chosen.far;
  return (
    <div className="flex min-h-0 min-w-0 flex-1 flex-col">
      <div className="flex flex-none flex-wrap items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
        <h2>{list ? `Add names to ${shortened(list.name, 40)}` : `Pair with ${shortened(farName, 40)}`}</h2>
        <span className="small soft">
          {shores &&
            `${count(shores.paired.length, "pair")} · ${shores.near.length} and ${shores.far.length} left over`}
        </span>
        <span className="ml-auto flex gap-2">
          <button type="button" className="button" onClick={() => setOpen(open === "table" ? undefined : "table")}>
            By a table…
          </button>
          <button type="button" className="button" onClick={() => void propose({ how: "likeness" })}>
            By likeness of names
          </button>
          <button
            type="button"
            className="button"
            onClick={() => void propose({ how: "order", near: chosen.near, far: chosen.far })}
          >
            {begun ? "In order from there" : "In order"}
          </button>
          {named && (
            <button type="button" className="button" disabled={proving} onClick={() => void prove()}>
              {proving ? "Asking…" : "Prove these names"}
            </button>
          )}
          {(served || named) && (
            <button type="button" className="button" onClick={() => setOpen(open === "give" ? undefined : "give")}>
              {named ? "Give out names…" : "Give out addresses…"}
            </button>
          )}
        </span>
      </div>
      <div className="flex min-h-0 flex-1">
        <LeftOver
          title="Left over on this shore"
          list={shores?.near ?? []}
          chosen={chosen.near}
          fits={kindOf("far")}
          onChoose={(id) => setChosen({ ...chosen, near: id })}
        >
          <select className="input mb-2" aria-label="Devices" value={nearIs} onChange={(e) => onNear(e.target.value)}>
            <option value="all">all devices</option>
            {site.devices
              .filter((d) => d.id !== far && d.pointCount > 0)
              .map((d) => (
                <option key={d.id} value={d.id}>
                  {shortened(d.name, 36)}
                </option>
              ))}
          </select>
        </LeftOver>
        <div className="min-w-0 flex-1 overflow-y-auto border-x border-rule p-4" data-pairs>
          {problem && <ProblemNotice problem={problem} />}
          {names && (
            <p
              className={`notice mb-3 ${names.connected ? (names.proofs.every((p) => p.verdict === "there") ? "good" : "doubt") : ""}`}
            >
              {names.sentence}
            </p>
          )}
          {open === "table" && <TableIn listed={!!list} onRead={propose} onClose={() => setOpen(undefined)} />}
          {open === "give" && (
            <Giving
              example={example}
              named={named}
              onGive={(give) => propose({ how: "give", give })}
              onClose={() => setOpen(undefined)}
            />
          )}
          {proposal ? (
            <Proposed
              proposal={proposal}
              onTake={take}
              onLeave={() => setProposal(undefined)}
              onMove={(run) => void move(run)}
            />
          ) : (
            shores && <Paired site={site} ids={shores.paired} proofs={names?.proofs} />
          )}
        </div>
        <LeftOver
          title="Left over on the far shore"
          list={shores?.far ?? []}
          chosen={chosen.far}
          fits={kindOf("near")}
          onChoose={(id) => setChosen({ ...chosen, far: id })}
        />
      </div>
      <div className="flex flex-none items-center gap-3 border-t border-rule bg-sheet px-4 py-2">
        <span className="small soft">
          Enter pairs the two that are chosen · Shift Enter goes on in order from there · Ctrl Z takes the run back as
          one step
        </span>
        <span className="ml-auto flex items-center gap-2">
          <span className="small soft">Hand out the list:</span>
          {["xlsx", "csv", "json"].map((format) => (
            <a
              key={format}
              className="button"
              href={`/api/file/crossings.${format}?${list ? `list=${list.id}` : `to=${encodeURIComponent(far)}`}`}
              download
            >
              {format.toUpperCase()}
            </a>
          ))}
          {list ? (
            <Link to="/crossings/lists/$list" params={{ list: list.id }} className="button main">
              See the list
            </Link>
          ) : (
            <Link to="/crossings" className="button main">
              See them run
            </Link>
          )}
        </span>
      </div>
    </div>
  );
}
