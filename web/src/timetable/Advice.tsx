import type { Advice as AdviceItem, Outlook } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import type { Paper } from "./TimetablePage";
import { paceWord } from "./Requests";

const percent = (x: number) => `${(100 * x).toFixed(x < 0.1 ? 1 : 0)}\u2009%`;

/** What changes would bring, the best first; each can be looked at on paper before it is made. */
export function Advice({
  outlook,
  paper,
  onPaper,
  onApply,
}: {
  outlook: Outlook;
  paper?: Paper;
  onPaper: (a: AdviceItem) => void;
  onApply: (a: AdviceItem) => void;
}) {
  return (
    <section className="card p-4" aria-label="Advice">
      <h3 className="mb-1">What would help</h3>
      {outlook.fastest.length > 0 && (
        <p className="small soft mb-2">
          If all paces changed alike, these would just hold:{" "}
          {outlook.fastest.map((f) => `${paceWord(f.paceMs)} → ${paceWord(f.fastestMs)}`).join(", ")}.
        </p>
      )}
      {outlook.advice.length === 0 && <p className="soft">No change of settings would gain a hundredth of the line.</p>}
      <ul>
        {outlook.advice.map((a) => (
          <li
            key={a.kind + a.sentence}
            className="flex items-start gap-2 border-t border-rule py-2"
            data-advice={a.kind}
          >
            <Mark
              kind={a.holds ? "good" : "doubt"}
              size={15}
              label={a.holds ? "then every pace holds" : "even then not every pace holds"}
            />
            <span className="min-w-0 flex-1">
              {a.sentence}
              <span className="small soft block">
                {percent(a.before)} → <b>{percent(a.after)}</b>
                {a.silent ? " with the worst device silent" : ""}
                {a.holds ? "" : "; not every pace would hold"}
              </span>
            </span>
            {a.edits.length > 0 ? (
              <span className="flex gap-1">
                <button
                  type="button"
                  className="button tight"
                  aria-pressed={paper?.what === a.sentence}
                  onClick={() => onPaper(a)}
                >
                  On paper
                </button>
                <button type="button" className="button tight" onClick={() => onApply(a)}>
                  Do it
                </button>
              </span>
            ) : (
              <span className="small soft whitespace-nowrap">takes wiring</span>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
