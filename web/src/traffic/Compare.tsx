import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { post, problemOf } from "../api/client";
import type { Comparison, Problem, SiteView, Verdict } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { Mark, type MarkKind } from "../shared/Mark";
import { Empty, ProblemNotice } from "../shared/ui";
import { linkName } from "./lookouts";

const whose: Record<Verdict["whose"], [MarkKind, string]> = {
  path: ["fault", "the network path"],
  device: ["fault", "the device"],
  other: ["doubt", "the other program, or its path"],
  unknown: ["not-yet", "not to be told"],
};

/** Another program's view of a time beside what Ferry saw. */
export function Compare({ site }: { site: SiteView }) {
  const [text, setText] = useState("");
  const [day, setDay] = useState("");
  const [link, setLink] = useState("");
  const [answer, setAnswer] = useState<Comparison>();
  const [problem, setProblem] = useState<Problem>();
  const compare = async () => {
    setProblem(undefined);
    try {
      setAnswer(await post<Comparison>("/api/lookouts/compare", { text, day, links: link ? [link] : [] }));
    } catch (error) {
      setAnswer(undefined);
      setProblem(problemOf(error));
    }
  };
  return (
    <section className="max-w-[900px]" aria-label="Compare with another program">
      <h3>What did another program see?</h3>
      <p className="small soft mt-1 max-w-[80ch]">
        Paste when it had no data, a line for each time: from, to, and what. Or paste its values with their times, and
        the gaps are found. Ferry says for each what it saw itself at that time, and so where the data was lost.
      </p>
      <textarea
        className="input mono mt-2 h-[150px]"
        aria-label="When it had no data"
        placeholder={"14:02:31 to 14:03:05 Tank 11 oxygen\n2026-11-26 15:10:00; 2026-11-26 15:10:42"}
        value={text}
        spellCheck={false}
        onChange={(e) => setText(e.target.value)}
      />
      <div className="mt-2 flex flex-wrap items-end gap-3">
        <label className="small soft flex flex-col gap-1">
          Of which link
          <select className="input !w-[300px]" value={link} onChange={(e) => setLink(e.target.value)}>
            <option value="">whichever fits</option>
            {site.links.map((l) => (
              <option key={l.id} value={l.id}>
                {shortened(linkName(site, l), 44)}
              </option>
            ))}
          </select>
        </label>
        <label className="small soft flex flex-col gap-1">
          Day of times without a date
          <input
            className="input mono !w-[140px]"
            value={day}
            placeholder="today"
            spellCheck={false}
            onChange={(e) => setDay(e.target.value)}
          />
        </label>
        <button type="button" className="button main" disabled={!text.trim()} onClick={() => void compare()}>
          Compare
        </button>
        <Link to="/traffic/lookouts" className="button">
          Back to lookouts
        </Link>
      </div>
      {problem && <ProblemNotice problem={problem} />}
      {answer && (
        <div className="mt-4" aria-label="What Ferry saw">
          {answer.clock && <p className="notice note mb-3">{answer.clock}</p>}
          {answer.verdicts.length === 0 && <Empty title="It had no gap">No time in it is one without data.</Empty>}
          {answer.verdicts.map((v) => (
            <div key={`${v.fromMs}-${v.name}`} className="card mb-2 flex items-start gap-3 p-3" data-whose={v.whose}>
              <Mark kind={whose[v.whose][0]} label={whose[v.whose][1]} />
              <span className="min-w-0">
                <b className="block">Lost at: {whose[v.whose][1]}</b>
                <span className="block break-words">{v.says}</span>
                {v.link && (
                  <Link to="/lines/$kind/$id" params={{ kind: "link", id: v.link }} className="small underline">
                    the link that Ferry lost
                  </Link>
                )}
              </span>
            </div>
          ))}
          {(answer.skipped?.length ?? 0) > 0 && (
            <p className="small soft">
              Lines without a time were left out:{" "}
              {answer.skipped?.map((l) => (
                <span key={l} className="mono block">
                  {l}
                </span>
              ))}
            </p>
          )}
        </div>
      )}
    </section>
  );
}
