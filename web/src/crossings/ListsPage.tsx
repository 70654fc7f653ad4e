import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { newId, problemOf, useEdit, useSite } from "../api/client";
import type { Problem, SiteView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { Mark } from "../shared/Mark";
import { count } from "../shared/numbers";
import { Empty, ProblemNotice } from "../shared/ui";
import { carriesWords, namesOf, standsAs, useStandings } from "./listed";

/** The lists of names that this program shares with others, and how each stands. */
export function ListsPage() {
  const { data: site } = useSite();
  const [making, setMaking] = useState(false);
  const standings = useStandings();
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <div className="flex flex-none items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
        <h2>Lists of names</h2>
        <span className="small soft">
          {site.lists.length > 0 && `${site.lists.length} with other programs · one status for each`}
        </span>
        <span className="ml-auto flex gap-2">
          <Link to="/crossings" className="button">
            All crossings
          </Link>
          <Link to="/crossings/lists/another" className="button">
            With another Ferry…
          </Link>
          <button type="button" className="button main" onClick={() => setMaking(true)}>
            Make a list
          </button>
        </span>
      </div>
      <div className="min-h-0 flex-1 overflow-y-auto p-4">
        {making && <NewList site={site} onDone={() => setMaking(false)} />}
        {site.lists.length === 0 && !making && (
          <Empty title="No list yet">
            A list ties points of this side to the names that another program has for them: a broker, a controller, a
            device that Ferry is itself. It has one status for all of its names, and rules that count for all of them.
            <div className="mt-3">
              <button type="button" className="button main" onClick={() => setMaking(true)}>
                Make a list
              </button>
            </div>
          </Empty>
        )}
        {site.lists.map((list) => {
          const standing = standings.get(list.id);
          return (
            <Link
              key={list.id}
              to="/crossings/lists/$list"
              params={{ list: list.id }}
              className="card mb-3 flex items-center gap-3 p-3"
              data-list={list.id}
            >
              <Mark kind={standsAs(standing)} label={standing?.title ?? "not run yet"} />
              <span className="min-w-0 flex-1">
                <b className="block truncate">{list.name}</b>
                <span className="small soft">
                  {count(namesOf(site, list).length, "name")} · {carriesWords(site, list)}
                </span>
              </span>
              <span className="min-w-0 flex-1">
                <b className="block truncate">{standing?.title}</b>
                <span className="small soft block truncate" title={standing?.sentence}>
                  {standing?.sentence}
                </span>
              </span>
            </Link>
          );
        })}
      </div>
    </div>
  );
}

/** A list that is begun: with whom, and which way. */
function NewList({ site, onDone }: { site: SiteView; onDone: () => void }) {
  const edit = useEdit();
  const navigate = useNavigate();
  const [far, setFar] = useState("");
  const [name, setName] = useState("");
  const [carries, setCarries] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const farName = site.devices.find((d) => d.id === far)?.name ?? "";
  const make = async () => {
    try {
      const id = newId();
      const after = { id, name: name.trim() || `Names at ${farName}`, far, carries: carries || undefined };
      await edit(`made the list ${after.name}`, [{ kind: "list", id, base: 0, after }]);
      onDone();
      await navigate({ to: "/crossings/lists/$list/add", params: { list: id } });
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <section className="card mb-4 p-3" aria-label="New list">
      <div className="flex flex-wrap items-end gap-3">
        <label className="flex min-w-[220px] flex-1 flex-col gap-1">
          <span className="small soft font-semibold">The far side</span>
          <select className="input" value={far} onChange={(e) => setFar(e.target.value)}>
            <option value="">whose names they are…</option>
            {site.devices
              .filter((d) => d.serving || site.links.some((l) => l.answering === d.id))
              .map((d) => (
                <option key={d.id} value={d.id}>
                  {shortened(d.name, 48)}
                  {d.serving ? ", which is Ferry itself" : ""}
                </option>
              ))}
          </select>
        </label>
        <label className="flex min-w-[180px] flex-1 flex-col gap-1">
          <span className="small soft font-semibold">Name of the list</span>
          <input
            className="input"
            value={name}
            placeholder={farName ? `Names at ${farName}` : ""}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label className="flex flex-col gap-1">
          <span className="small soft font-semibold">Carries</span>
          <select className="input" value={carries} onChange={(e) => setCarries(e.target.value)}>
            <option value="">both ways</option>
            <option value="takes">only from there: nothing is written</option>
            <option value="gives">only to there</option>
          </select>
        </label>
        <button type="button" className="button" onClick={onDone}>
          Give up
        </button>
        <button type="button" className="button main" disabled={!far} onClick={() => void make()}>
          Make it
        </button>
      </div>
      {problem && <ProblemNotice problem={problem} />}
    </section>
  );
}
