import { useState } from "react";
import { problemOf } from "../api/client";
import type { Giving as Rules, Problem } from "../api/types.gen";
import { whole } from "../shared/numbers";
import { ProblemNotice } from "../shared/ui";

/** The rules by which new points of the far shore are given out: one for each that is left over. */
export function Giving({
  example,
  named,
  onGive,
  onClose,
}: {
  /** An address of the far shore as it is typed. */
  example: string;
  /** Whether the places of the far side have names. */
  named?: boolean;
  onGive: (rules: Rules) => Promise<void>;
  onClose: () => void;
}) {
  const [start, setStart] = useState(named ? "skerry/{line}/{device}/{point}" : "");
  const [plain, setPlain] = useState(true);
  const [states, setStates] = useState("");
  const [reserve, setReserve] = useState("");
  const [block, setBlock] = useState("");
  const [even, setEven] = useState(false);
  const [as, setAs] = useState("");
  const [name, setName] = useState("{device}-{point}");
  const [writable, setWritable] = useState(false);
  const [problem, setProblem] = useState<Problem>();
  const give = async () => {
    try {
      setProblem(undefined);
      await onGive({
        start,
        plain: named && plain,
        states,
        reserve: whole(reserve),
        block: whole(block),
        even,
        as,
        name,
        writable,
      });
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const field = (label: string, value: string, set: (text: string) => void, placeholder = "", help = "") => (
    <label className="small soft block" title={help}>
      {label}
      <input
        className="input mono mt-1"
        aria-label={label}
        value={value}
        placeholder={placeholder}
        spellCheck={false}
        onChange={(e) => set(e.target.value)}
      />
    </label>
  );
  return (
    <section className="card mb-3 p-3" aria-label={named ? "Give out names" : "Give out addresses"}>
      <p className="small soft mb-2">A new point is made here for everything that is left over on the other shore.</p>
      {named ? (
        <>
          <div className="grid grid-cols-2 gap-2">
            {field("Far name", start, setStart, example, "{site}, {line}, {device} and {point} are filled in")}
            {field("Names here", name, setName, "{device}-{point}", "{device}, {point} and {n} are filled in")}
          </div>
          <label className="mt-2 flex items-center gap-2">
            <input type="checkbox" checked={plain} onChange={(e) => setPlain(e.target.checked)} /> small letters, and
            dashes for blanks
          </label>
        </>
      ) : (
        <>
          <div className="grid grid-cols-2 gap-2">
            {field("First address", start, setStart, example)}
            {field("First address of states", states, setStates, "with the others")}
            {field(
              "Each device begins on a multiple of",
              block,
              setBlock,
              "units, none",
              "so that addresses can be told by heart",
            )}
            {field("Left free behind each device", reserve, setReserve, "units, none")}
            <label className="small soft block">
              Numbers become
              <select
                className="input mt-1"
                aria-label="Numbers become"
                value={as}
                onChange={(e) => setAs(e.target.value)}
              >
                <option value="">what they are</option>
                {["int16", "uint16", "int32", "uint32", "float32", "float64"].map((t) => (
                  <option key={t} value={t}>
                    {t}
                  </option>
                ))}
              </select>
            </label>
            {field("Names", name, setName, "{device}-{point}", "{device}, {point} and {n} are filled in")}
          </div>
          <label className="mt-2 flex items-center gap-2">
            <input type="checkbox" checked={even} onChange={(e) => setEven(e.target.checked)} /> long values begin at
            even offsets
          </label>
        </>
      )}
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={writable} onChange={(e) => setWritable(e.target.checked)} />{" "}
        {named ? "setpoints go both ways" : "clients may write setpoints, which are carried back"}
      </label>
      {problem && <ProblemNotice problem={problem} />}
      <div className="mt-2 flex justify-end gap-2">
        <button type="button" className="button" onClick={onClose}>
          Leave it
        </button>
        <button type="button" className="button main" disabled={!start.trim()} onClick={() => void give()}>
          Look at the pairs
        </button>
      </div>
    </section>
  );
}
