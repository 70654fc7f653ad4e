import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post, problemOf } from "../api/client";
import type { CrossingView, NotedView, Problem, RewordRequest } from "../api/types.gen";
import { say } from "../shared/toast";
import { Dialog, ProblemNotice } from "../shared/ui";

/** Rules as they are written, what each means, and what is written in its place. */
const examples: [rule: string, means: string, others: string[]][] = [
  ["moves by 0.5", "by how much it has to move", ["moves by 2 %", "any change"]],
  ["at least every 1 min", "written again though nothing has moved", ["at least every 0 s"]],
  ["at most every 10 s", "not written again before", ["every 30 s", "without a pace"]],
  ["with each round", "once the whole round of its source is read", ["when it moves"]],
  ["with quality", "what goes with the value", ["with limits and texts", "the value alone"]],
  ["when quiet 0 after 5 s", "while the source is not good", ["stops when quiet", "holds when quiet"]],
  ["target wins at first", "at the start", ["source wins at first", "from the first good value"]],
  ["24 times a day", "for targets that wear", ["without a bound a day"]],
  ["÷ 10, °C → °F", "the way: all of it is then as said here", ["as it is"]],
];

/** Changes the rules of all crossings that are shown, in one step. */
export function Reword({
  crossings,
  open,
  onClose,
}: {
  crossings: CrossingView[];
  open: boolean;
  onClose: () => void;
}) {
  const client = useQueryClient();
  const [words, setWords] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const carried = crossings.filter((c) => !c.beatMs);
  const close = () => {
    setProblem(undefined);
    onClose();
  };
  const go = async () => {
    try {
      const asked: RewordRequest = { ids: carried.map((c) => c.id), words };
      const noted = await post<NotedView>("/api/crossings/rules", asked);
      await client.invalidateQueries({ queryKey: ["site"] });
      say(`${noted.said} Ctrl Z takes it back.`);
      setWords("");
      close();
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <Dialog open={open} onClose={close} title={`Rules of ${carried.length} crossings`} wide>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void go();
        }}
      >
        <label className="block">
          <span className="small soft">What they are to do, with commas between; what is not named stays as it is</span>
          <input
            className="input mono mt-1 w-full"
            aria-label="Rules"
            value={words}
            autoFocus
            placeholder="with each round, with quality"
            onChange={(e) => setWords(e.target.value)}
          />
        </label>
        {problem && <ProblemNotice problem={problem} />}
        <table className="small mt-3 w-full">
          <tbody>
            {examples.map(([rule, means, others]) => (
              <tr key={rule}>
                <td className="soft w-[270px] py-[2px] pr-3">{means}</td>
                <td className="py-[2px]">
                  {[rule, ...others].map((each) => (
                    <button
                      key={each}
                      type="button"
                      className="button tight mono mr-2"
                      onClick={() => setWords((w) => (w.trim() ? `${w.trim()}, ${each}` : each))}
                    >
                      {each}
                    </button>
                  ))}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <div className="mt-4 flex justify-end gap-2">
          <button type="button" className="button" onClick={close}>
            Leave them
          </button>
          <button type="submit" className="button main" disabled={!words.trim() || carried.length === 0}>
            Change {carried.length} crossings
          </button>
        </div>
      </form>
    </Dialog>
  );
}
