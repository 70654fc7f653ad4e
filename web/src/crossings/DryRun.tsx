import { useState } from "react";
import { post, problemOf } from "../api/client";
import type { CrossingView, DryView, Problem } from "../api/types.gen";
import { count } from "../shared/numbers";
import { ProblemNotice } from "../shared/ui";

/** A crossing tried on recorded or made-up values: what its target would have seen. Nothing is written. */
export function DryRun({ crossing }: { crossing: CrossingView }) {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [dry, setDry] = useState<DryView>();
  const [problem, setProblem] = useState<Problem>();
  const run = async (values: string) => {
    try {
      setDry(await post<DryView>(`/api/crossings/${crossing.id}/dry`, { text: values }));
      setProblem(undefined);
    } catch (error) {
      setDry(undefined);
      setProblem(problemOf(error));
    }
  };
  if (!open)
    return (
      <button type="button" className="button mt-3" onClick={() => setOpen(true)}>
        Try it without writing…
      </button>
    );
  return (
    <section className="mt-4" aria-label="Tried without writing">
      <h3 className="mb-1">Tried without writing</h3>
      <p className="small soft mb-1">
        A value to a line, with its time in seconds before it if it is not one a second; “bad” for none; “0 … 10 in 60
        s” for a ramp.
      </p>
      <textarea
        className="input mono h-[92px]"
        aria-label="Values of the source"
        placeholder={"8.2\n8.4\nbad no answer\n0 … 10 in 60 s"}
        value={text}
        spellCheck={false}
        onChange={(e) => setText(e.target.value)}
      />
      <div className="mt-2 flex flex-wrap gap-2">
        <button type="button" className="button main" disabled={!text.trim()} onClick={() => void run(text)}>
          Try these
        </button>
        <button type="button" className="button" onClick={() => void run("")}>
          Try what was recorded
        </button>
      </div>
      {problem && <ProblemNotice problem={problem} />}
      {dry && <Seen dry={dry} unit={crossing.target.unit} />}
    </section>
  );
}

function Seen({ dry, unit }: { dry: DryView; unit: string }) {
  const begins = dry.samples[0]?.atMs ?? 0;
  const shown = dry.writes.slice(0, 40);
  return (
    <div className="mt-2" data-dry>
      <p>
        <b>
          Of {count(dry.samples.length, "value")}, {count(dry.writes.length, "write")}.
        </b>{" "}
        <span className="small soft">
          {dry.counts.held} held back by the deadband
          {dry.counts.merged > 0 && ` · ${dry.counts.merged} overtaken by a later one`}
          {dry.counts.dropped > 0 && ` · ${dry.counts.dropped} could not be carried`}
          {dry.cut && " · and more"}
        </span>
      </p>
      {dry.sentence && <p className="small">{dry.sentence}</p>}
      <Steps dry={dry} />
      <table className="mono small mt-1 w-full">
        <tbody>
          {shown.map((w, i) => (
            <tr key={i}>
              <td className="soft py-[1px]">{((w.atMs - begins) / 1000).toFixed(1)} s</td>
              <td className="text-right">
                {w.quality ? `quality ${w.shown}` : `${w.shown} ${unit}`}
                {w.is && w.is !== "good" && <span className="text-fault"> {w.is}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {dry.writes.length > shown.length && <p className="small soft">and {dry.writes.length - shown.length} more</p>}
    </div>
  );
}

/** What the target stands at, over the time of the try. */
function Steps({ dry }: { dry: DryView }) {
  const writes = dry.writes.filter((w) => !w.quality && typeof w.value === "number");
  const first = dry.samples[0];
  const last = dry.samples.at(-1);
  if (writes.length < 2 || !first || !last) return null;
  const values = writes.map((w) => w.value as number);
  const low = Math.min(...values);
  const high = Math.max(...values);
  const until = Math.max(last.atMs, writes.at(-1)?.atMs ?? 0);
  const x = (ms: number) => (320 * (ms - first.atMs)) / Math.max(1, until - first.atMs);
  const y = (v: number) => 58 - (54 * (v - low)) / Math.max(1e-9, high - low);
  const path = writes.map((w, i) => `${i ? "H" : "M"}${x(w.atMs)}${i ? "V" : " "}${y(w.value as number)}`).join("");
  return (
    <svg viewBox="0 0 320 62" className="mt-1 w-full" role="img" aria-label={`from ${low} to ${high}`}>
      <path d={`${path}H320`} fill="none" stroke="var(--tide)" strokeWidth="2" />
    </svg>
  );
}
