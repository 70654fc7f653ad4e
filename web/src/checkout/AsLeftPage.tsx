import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useRef, useState } from "react";
import { get, post, problemOf, useSite } from "../api/client";
import type { AsLeftRequest, AsLeftView, Divergence, JournalView, Problem } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { count } from "../shared/numbers";
import { say } from "../shared/toast";
import { clockDay, Empty, ProblemNotice } from "../shared/ui";

/** The site beside what it was at another time, or beside a file: difference by difference in words, and single ones
 *  brought over. */
export function AsLeftPage() {
  const { data: site } = useSite();
  const client = useQueryClient();
  const { data: journal } = useQuery({
    queryKey: ["journal", site?.seq],
    queryFn: () => get<JournalView>("/api/journal"),
    enabled: !!site,
    placeholderData: (old) => old,
  });
  const [with_, setWith] = useState<AsLeftRequest>();
  const [view, setView] = useState<AsLeftView>();
  const [chosen, setChosen] = useState<string[]>([]);
  const [problem, setProblem] = useState<Problem>();
  const [wanted, setWanted] = useState("");
  const file = useRef<HTMLInputElement>(null);
  const call = async (path: string, body: AsLeftRequest) => {
    setProblem(undefined);
    try {
      const next = await post<AsLeftView>(path, body);
      setView(next);
      setChosen([]);
      return next;
    } catch (error) {
      setProblem(problemOf(error));
      return undefined;
    }
  };
  const compare = (body: AsLeftRequest) => {
    setWith(body);
    void call("/api/asleft", body);
  };
  const bring = async () => {
    const done = await call("/api/asleft/bring", { ...with_, keys: chosen });
    if (!done) return;
    say(`${done.said}. Ctrl Z takes it back.`);
    await client.invalidateQueries();
  };
  const take = async (list: FileList | null) => {
    const picked = list?.[0];
    if (picked) compare({ file: await picked.text() });
    if (file.current) file.current.value = "";
  };
  const words = wanted.toLowerCase();
  const shown = (view?.divergences ?? []).filter((d) => `${d.name} ${d.words.join(" ")}`.toLowerCase().includes(words));
  const toggle = (key: string) => setChosen(chosen.includes(key) ? chosen.filter((k) => k !== key) : [...chosen, key]);
  return (
    <>
      <aside
        className="flex w-[300px] flex-none flex-col overflow-y-auto border-r border-[var(--rule)] p-3 max-[1100px]:w-[240px]"
        aria-label="Compare with"
      >
        <Link to="/checkout" className="small underline">
          Checkout
        </Link>
        <h2 className="mt-2 mb-1">As left</h2>
        <p className="small soft mb-2">What the site is now, beside what it was after a change, or beside a file.</p>
        <input
          ref={file}
          type="file"
          accept=".json,application/json"
          className="sr-only"
          aria-label="Site file to compare with"
          onChange={(e) => void take(e.target.files)}
        />
        <button type="button" className="button" onClick={() => file.current?.click()}>
          Compare with a file…
        </button>
        <nav className="mt-3" aria-label="Changes">
          {journal?.entries.map((entry) => (
            <button
              key={entry.seq}
              type="button"
              className="block w-full rounded px-2 py-1 text-left"
              style={entry.seq === with_?.seq && !with_.file ? { background: "var(--tide-wash)" } : undefined}
              onClick={() => compare({ seq: entry.seq })}
            >
              <b className="block break-words">{entry.what}</b>
              <span className="small soft">
                {entry.seq} · {clockDay(Date.parse(entry.at))} · {entry.who}
              </span>
            </button>
          ))}
        </nav>
      </aside>
      <div className="min-w-0 flex-1 overflow-y-auto p-4">
        {problem && <ProblemNotice problem={problem} />}
        {!view && !problem && (
          <Empty title="Compare with what it was">
            Choose a change on the left: the site as it was after that one is laid beside what it is now. Or take a site
            file or a pack that somebody handed out.
          </Empty>
        )}
        {view && (
          <section aria-label="Differences">
            <div className="flex flex-wrap items-center gap-3">
              <h2 className="min-w-0 break-words">Beside {view.with}</h2>
              <span className="flex-1" />
              <button type="button" className="button main" disabled={chosen.length === 0} onClick={() => void bring()}>
                {chosen.length
                  ? `Make ${chosen.length === 1 ? "it" : `these ${chosen.length}`} as then`
                  : "Make as then"}
              </button>
            </div>
            <p className="mb-2" data-testid="divergences">
              {view.divergences.length === 0
                ? "Nothing differs."
                : `${count(view.divergences.length + (view.more ?? 0), "thing")} differ${view.divergences.length === 1 ? "s" : ""}.`}
            </p>
            {view.divergences.length > 10 && (
              <input
                className="input mb-2 !w-[300px]"
                type="search"
                aria-label="Filter the differences"
                placeholder="words of the name or of what differs"
                value={wanted}
                onChange={(e) => setWanted(e.target.value)}
              />
            )}
            <table className="rows" aria-label="What differs">
              <tbody>
                {shown.slice(0, 500).map((d) => (
                  <Row
                    key={keyOf(d)}
                    divergence={d}
                    chosen={chosen.includes(keyOf(d))}
                    onChoose={() => toggle(keyOf(d))}
                  />
                ))}
              </tbody>
            </table>
            {shown.length > 500 && <p className="small soft mt-2">and {shown.length - 500} more: filter by words.</p>}
          </section>
        )}
      </div>
    </>
  );
}

const keyOf = (d: Divergence) => `${d.kind} ${d.id}`;
const states = { new: "new since", gone: "gone since", changed: "" };

function Row({ divergence: d, chosen, onChoose }: { divergence: Divergence; chosen: boolean; onChoose: () => void }) {
  return (
    <tr data-divergence={keyOf(d)}>
      <td className="w-[1px]">
        <input type="checkbox" aria-label={`Make ${d.kind} ${d.name} as then`} checked={chosen} onChange={onChoose} />
      </td>
      <td className="w-[1px]">
        <Mark kind={d.since === "changed" ? "doubt" : "fault"} size={13} />
      </td>
      <td className="soft small w-[90px]">{d.kind}</td>
      <td className="break-words">
        <b>{d.name}</b>
      </td>
      <td className="break-words">{states[d.since] || d.words.join("; ")}</td>
    </tr>
  );
}
