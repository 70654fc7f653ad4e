import { useState } from "react";
import { post, problemOf } from "../api/client";
import type { Problem, WriteOrder, WriteResult } from "../api/types.gen";
import { Dialog, ProblemNotice } from "./ui";

/** At which level a value is commanded, where it has such, and whether that is given up. */
export interface At {
  level?: string;
  giveUp?: boolean;
}

/** Writes to a point: first what goes where, in full, then the write and what reads back. */
export function useWriter(id: string, unit: string) {
  const [text, setText] = useState("");
  const [order, setOrder] = useState<WriteOrder>();
  const [result, setResult] = useState<WriteResult>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const [at, setAt] = useState<At>({});
  const guarded = async (work: () => Promise<void>) => {
    setProblem(undefined);
    setBusy(true);
    try {
      await work();
    } catch (error) {
      setProblem(problemOf(error));
    }
    setBusy(false);
  };
  const prepare = (what: string, where: At = {}) => {
    setText(what);
    setAt(where);
    return guarded(async () => {
      setResult(undefined);
      setOrder(await post<WriteOrder>("/api/write/prepare", { point: id, text: what, ...where }));
    });
  };
  const write = () =>
    guarded(async () => {
      setResult(await post<WriteResult>("/api/write", { token: order?.token ?? "" }));
      setOrder(undefined);
    });
  const rows: [string, string][] = order
    ? [
        ["Device", `${order.device}, ${order.target}`],
        ["Point", order.name],
        ["Address", order.address],
        ["Function", order.function],
        ["Now", order.oldAtMs ? `${order.old} ${unit}` : "not read"],
        ["Then", order.unit || !at.giveUp ? `${order.new} ${unit}` : order.new],
        ["Words", order.words],
      ]
    : [];
  const shown = (
    <>
      {!order && problem && <ProblemNotice problem={problem} />}
      {result && (
        <div
          className={"notice mt-2 " + (result.ok ? "good" : result.state === "not known" ? "doubt" : "")}
          role="status"
          data-testid="written"
        >
          <b>{result.sentence}</b>
          {result.readBack && (
            <>
              {" "}
              It reads <span className="mono">{result.readBack}</span> {unit}.
            </>
          )}
        </div>
      )}
      <Dialog
        open={!!order}
        onClose={() => setOrder(undefined)}
        title={order?.mode === "plant" ? "Write to the plant?" : "Write to the bench?"}
      >
        {order && (
          <>
            <table className="rows mb-3">
              <tbody>
                {rows
                  .filter(([key, v]) => key !== "Words" || v)
                  .map(([key, v]) => (
                    <tr key={key}>
                      <td className="soft small">{key}</td>
                      <td className={key === "Then" ? "mono font-semibold" : "mono"}>{v}</td>
                    </tr>
                  ))}
              </tbody>
            </table>
            {order.lost && <div className="notice doubt mb-3">{order.lost}.</div>}
            {order.locked && (
              <div className="notice doubt mb-3">
                <b>Writing to the plant is locked.</b> Close this, unlock it for some minutes in the bar above, and
                prepare the write again.
              </div>
            )}
            {problem && <ProblemNotice problem={problem} />}
            <div className="mt-3 flex justify-end gap-2">
              <button type="button" className="button" onClick={() => setOrder(undefined)}>
                Do not write
              </button>
              {order.locked ? null : problem ? (
                <button type="button" className="button main" disabled={busy} onClick={() => void prepare(text, at)}>
                  Prepare it again
                </button>
              ) : (
                <button type="button" className="button main" disabled={busy} onClick={() => void write()}>
                  {at.giveUp ? "Give it up" : `Write ${order.new} ${unit}`}
                </button>
              )}
            </div>
          </>
        )}
      </Dialog>
    </>
  );
  return { prepare, busy, shown, result };
}

/** A field for a new value of a point, with what comes of writing it. */
export function Writer({ id, unit }: { id: string; unit: string }) {
  const [text, setText] = useState("");
  const { prepare, busy, shown } = useWriter(id, unit);
  return (
    <section className="mt-4">
      <h3 className="mb-1">Write</h3>
      <div className="flex gap-2">
        <input
          className="input mono"
          aria-label="New value"
          placeholder={`new value${unit ? ", " + unit : ""}`}
          value={text}
          onChange={(e) => setText(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && text && void prepare(text)}
        />
        <button type="button" className="button" disabled={!text || busy} onClick={() => void prepare(text)}>
          Write…
        </button>
      </div>
      {shown}
    </section>
  );
}
