import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { cloneElement, useId, useState, type ReactElement } from "react";
import { post, problemOf, useSite } from "../api/client";
import type { Address, Pair, Problem, SiteView, Twin, TwinRequest, TwinView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { whole } from "../shared/numbers";
import { say } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";
import { Proposed } from "./Proposed";
import { TableIn } from "./TableIn";

/** Names shared with another Ferry: both are set up from this one. */
export function TwinPage() {
  const { data: site } = useSite();
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  return <TwinOf site={site} />;
}

function TwinOf({ site }: { site: SiteView }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [at, setAt] = useState<Address>({ url: "", name: "", passphrase: "" });
  const [other, setOther] = useState<TwinView>();
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<Problem>();
  const [open, setOpen] = useState(false);
  const [allow, setAllow] = useState("");
  const [words, setWords] = useState("");
  const lines = site.lines.filter((l) => l.medium === "ethernet");
  const askers = [...new Set(site.links.map((l) => l.asking))];
  const [twin, setTwin] = useState<Twin>({
    name: "",
    protocol: "",
    line: lines[0]?.id ?? "",
    asking: askers[0] ?? site.devices[0]?.id ?? "",
    farLine: "",
    host: "",
    port: 0,
  });
  const ask = async (more: Partial<TwinRequest>, as: Address = at) => {
    setBusy(true);
    try {
      const view = await post<TwinView>("/api/twin", {
        at: as,
        how: "look",
        twin: { ...twin, allow: allow.split(/[\s,;]+/).filter(Boolean) },
        ...more,
      });
      setOther(view);
      setProblem(undefined);
      setOpen(false);
      setTwin((before) => ({
        ...before,
        protocol: before.protocol || (view.protocols[0] ?? ""),
        name: before.name || `Names shared with ${view.site}`,
        farLine: before.farLine || (view.lines[0]?.id ?? ""),
        host: before.host || view.host,
        port: before.port || view.port,
      }));
      return view;
    } catch (error) {
      setProblem(problemOf(error));
    } finally {
      setBusy(false);
    }
  };
  const make = async (pairs: Pair[]) => {
    const made = await ask({ how: "make", pairs });
    if (!made?.device) return;
    await client.invalidateQueries({ queryKey: ["site"] });
    say(made.said ?? "");
    if (made.list) await navigate({ to: "/crossings/lists/$list", params: { list: made.list } });
    else await navigate({ to: "/points/$device", params: { device: made.device } });
  };
  const same = (fingerprint: string) => {
    const sure = { ...at, fingerprint };
    setAt(sure);
    void ask({}, sure);
  };
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <div className="flex flex-none items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
        <h2 className="whitespace-nowrap">Share names with another Ferry</h2>
        <span className="small soft min-w-0 truncate">
          {other && `${other.site} at ${other.host} · ${other.near} points here, ${other.far} there`}
        </span>
        <span className="ml-auto flex gap-2">
          <Link to="/crossings/lists" className="button">
            All lists
          </Link>
          {other && (
            <>
              <form
                className="flex gap-2"
                onSubmit={(e) => {
                  e.preventDefault();
                  void ask({ how: "alone", table: words });
                }}
              >
                <input
                  className="input w-[150px]"
                  aria-label="Words of its points"
                  placeholder="words of its names"
                  value={words}
                  onChange={(e) => setWords(e.target.value)}
                />
                <button type="submit" className="button" disabled={busy}>
                  Take its points
                </button>
              </form>
              <button type="button" className="button" onClick={() => setOpen(!open)}>
                By a table…
              </button>
              <button type="button" className="button" disabled={busy} onClick={() => void ask({ how: "likeness" })}>
                By likeness of names
              </button>
            </>
          )}
        </span>
      </div>
      <div className="flex min-h-0 flex-1">
        <div className="min-w-0 flex-1 overflow-y-auto p-4">
          {problem?.code === "certificate-unknown" ? (
            <div className="notice doubt mb-3" role="alert" data-code={problem.code}>
              <b>{problem.sentence}</b> {problem.do}
              <p className="mono my-2 break-all">{problem.where}</p>
              <button type="button" className="button" onClick={() => same(problem.where ?? "")}>
                It is the same
              </button>
            </div>
          ) : (
            problem && <ProblemNotice problem={problem} />
          )}
          {open && <TableIn listed onRead={(how) => ask(how).then(() => undefined)} onClose={() => setOpen(false)} />}
          {!other && (
            <p className="soft mx-auto mt-16 max-w-[460px] text-center">
              The other Ferry shows what it has, and its points are found by name. What you choose is set up on both
              machines: there a device that the other answers as, here a list of names that asks it. Either side may be
              the one that wins. It goes there under the name of a user of the other, who can undo it.
            </p>
          )}
          {other && other.proposal.pairs.length + other.proposal.refused.length > 0 && (
            <Proposed
              key={JSON.stringify(other.proposal.pairs.map((p) => p.from + p.to))}
              proposal={other.proposal}
              action="Set up both with"
              onTake={make}
              onLeave={() => void ask({})}
            />
          )}
          {other && other.proposal.pairs.length + other.proposal.refused.length === 0 && !open && (
            <p className="soft mx-auto mt-16 max-w-[460px] text-center">
              It is reached. Name what is to be shared: by a table of names, or by their likeness. Points that only the
              other has can be taken as points of this site.
            </p>
          )}
        </div>
        <aside className="panel" aria-label="The other Ferry">
          <h3 className="mb-1">The other Ferry</h3>
          <Row label="Address">
            <input
              className="input mono"
              placeholder="https://192.0.2.20:8642"
              value={at.url}
              onChange={(e) => setAt({ ...at, url: e.target.value, fingerprint: undefined })}
            />
          </Row>
          <Row label="User there">
            <input
              className="input"
              autoComplete="off"
              value={at.name}
              onChange={(e) => setAt({ ...at, name: e.target.value })}
            />
          </Row>
          <Row label="Passphrase">
            <input
              className="input"
              type="password"
              autoComplete="off"
              value={at.passphrase}
              onChange={(e) => setAt({ ...at, passphrase: e.target.value })}
            />
          </Row>
          <p className="small soft mt-1">None of this is kept.</p>
          <button
            type="button"
            className="button main mt-2"
            disabled={!at.url.trim() || busy}
            onClick={() => void ask({})}
          >
            {busy ? "Asking…" : other ? "Look again" : "Look at it"}
          </button>
          {other && (
            <>
              <h3 className="mt-5 mb-1">What is set up</h3>
              <Row label="List">
                <input
                  className="input"
                  value={twin.name}
                  onChange={(e) => setTwin({ ...twin, name: e.target.value })}
                />
              </Row>
              <Row label="At the start">
                <select
                  className="input"
                  value={twin.start ?? ""}
                  onChange={(e) => setTwin({ ...twin, start: (e.target.value || undefined) as Twin["start"] })}
                >
                  <option value="">this Ferry wins</option>
                  <option value="there">the other wins</option>
                  <option value="wait">whoever is good first</option>
                </select>
              </Row>
              <Row label="In a tie">
                <select
                  className="input"
                  value={twin.ties ?? ""}
                  onChange={(e) => setTwin({ ...twin, ties: (e.target.value || undefined) as Twin["ties"] })}
                >
                  <option value="">this Ferry wins</option>
                  <option value="there">the other wins</option>
                  <option value="later">the later wins</option>
                </select>
              </Row>
              <Row label="In">
                <select
                  className="input"
                  value={twin.protocol}
                  onChange={(e) => setTwin({ ...twin, protocol: e.target.value })}
                >
                  {other.protocols.map((name) => (
                    <option key={name} value={name}>
                      {site.protocols.find((p) => p.name === name)?.title ?? name}
                    </option>
                  ))}
                </select>
              </Row>
              <Row label="Answers at">
                <input
                  className="input mono"
                  value={twin.host}
                  onChange={(e) => setTwin({ ...twin, host: e.target.value.trim() })}
                />
              </Row>
              <Row label="Port">
                <input
                  className="input mono"
                  value={twin.port || ""}
                  onChange={(e) => setTwin({ ...twin, port: whole(e.target.value) })}
                />
              </Row>
              <Row label="Lets in">
                <input
                  className="input mono"
                  placeholder="everybody"
                  value={allow}
                  onChange={(e) => setAllow(e.target.value)}
                />
              </Row>
              <Row label="On its line">
                <select
                  className="input"
                  value={twin.farLine}
                  onChange={(e) => setTwin({ ...twin, farLine: e.target.value })}
                >
                  {other.lines.map((l) => (
                    <option key={l.id} value={l.id}>
                      {shortened(l.name, 36)}
                    </option>
                  ))}
                </select>
              </Row>
              <Row label="On this line">
                <select
                  className="input"
                  value={twin.line}
                  onChange={(e) => setTwin({ ...twin, line: e.target.value })}
                >
                  {lines.map((l) => (
                    <option key={l.id} value={l.id}>
                      {shortened(l.name, 36)}
                    </option>
                  ))}
                </select>
              </Row>
              <Row label="Asked by">
                <select
                  className="input"
                  value={twin.asking}
                  onChange={(e) => setTwin({ ...twin, asking: e.target.value })}
                >
                  {site.devices
                    .filter((d) => d.ports.some((p) => p.line === twin.line) && (!d.serving || d.id === twin.asking))
                    .map((d) => (
                      <option key={d.id} value={d.id}>
                        {shortened(d.name, 36)}
                      </option>
                    ))}
                </select>
              </Row>
            </>
          )}
        </aside>
      </div>
    </div>
  );
}

function Row({ label, children }: { label: string; children: ReactElement<{ id?: string }> }) {
  const id = useId();
  return (
    <div className="grid grid-cols-[112px_1fr] items-center gap-x-3 py-1">
      <label htmlFor={id} className="small soft">
        {label}
      </label>
      {cloneElement(children, { id })}
    </div>
  );
}
