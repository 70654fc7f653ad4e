import { useEffect, useState } from "react";
import { useLive } from "../api/live";
import type { Live, ProvingPoint } from "../api/types.gen";
import { shown } from "../shared/ui";
import { useWriter } from "../shared/Writer";

/** What is known of a command: what was written, and how its feedback followed. */
export interface Commanded {
  says: string;
}

/**
 * A command is written with its confirmation, its feedback is watched for a stated time, and what was there is written
 * back.
 */
export function Command({
  point,
  points,
  onSeen,
}: {
  point: ProvingPoint;
  points: ProvingPoint[];
  onSeen: (seen: Commanded | undefined) => void;
}) {
  const [text, setText] = useState("");
  const [within, setWithin] = useState("15");
  const [tolerance, setTolerance] = useState("1 %");
  const [feedback, setFeedback] = useState(() => feedbackOf(point, points));
  const [took, setTook] = useState<number>();
  const [late, setLate] = useState(false);
  const writer = useWriter(point.point, point.unit ?? "");
  const live = useLive(feedback);
  const result = writer.result;
  const back = points.find((p) => p.point === feedback);
  const seconds = Math.max(0.1, Number(within.replace(",", ".")) || 15);
  const wrote = result?.ok ? result.order.new : undefined;

  useEffect(() => {
    setTook(undefined);
    setLate(false);
    onSeen(undefined);
    if (!wrote || !result) return;
    const over = setTimeout(() => setLate(true), seconds * 1000 + 400);
    return () => clearTimeout(over);
    // oxlint-disable-next-line react-hooks/exhaustive-deps -- once for each write
  }, [result?.atMs]);
  useEffect(() => {
    if (!wrote || !result || took !== undefined || !live?.atMs || live.atMs < result.atMs) return;
    const after = live.atMs - result.atMs;
    if (after > seconds * 1000 || live.quality === "bad" || !follows(live, wrote, tolerance)) return;
    setTook(after);
    onSeen({ says: `wrote ${wrote}, ${back?.name ?? "it"} followed after ${(after / 1000).toFixed(1)} s` });
    // oxlint-disable-next-line react-hooks/exhaustive-deps -- with each value that comes
  }, [live?.atMs, result?.atMs]);
  return (
    <section className="card mt-4 p-4" aria-label="Command">
      <h3>Command it, and watch</h3>
      <div className="mt-2 flex flex-wrap items-end gap-2">
        <label className="small soft flex flex-col">
          write
          <input
            className="input mono !w-[120px]"
            aria-label="Value to write"
            value={text}
            onChange={(e) => setText(e.target.value)}
            onKeyDown={(e) => {
              if (e.key === "Enter" && text.trim()) void writer.prepare(text);
            }}
          />
        </label>
        <label className="small soft flex min-w-0 flex-col">
          and watch
          <select className="input !w-[220px]" value={feedback} onChange={(e) => setFeedback(e.target.value)}>
            {points.map((p) => (
              <option key={p.point} value={p.point}>
                {p.name}
              </option>
            ))}
          </select>
        </label>
        <label className="small soft flex flex-col">
          to within
          <input className="input mono !w-[80px]" value={tolerance} onChange={(e) => setTolerance(e.target.value)} />
        </label>
        <label className="small soft flex flex-col">
          for, s
          <input
            className="input mono !w-[64px]"
            value={within}
            inputMode="decimal"
            onChange={(e) => setWithin(e.target.value)}
          />
        </label>
        <button
          type="button"
          className="button"
          disabled={!text.trim() || writer.busy}
          onClick={() => void writer.prepare(text)}
        >
          Write…
        </button>
        {wrote && result && result.order.oldAtMs > 0 && result.order.old !== wrote && (
          <button
            type="button"
            className="button"
            disabled={writer.busy}
            onClick={() => void writer.prepare(plain(result.order.old))}
          >
            Write back {result.order.old}…
          </button>
        )}
      </div>
      {writer.shown}
      {wrote && (
        <p className="mt-2" role="status" data-testid="followed">
          {took !== undefined
            ? `${back?.name} followed after ${(took / 1000).toFixed(1)} s: ${live ? shown(live) : ""} ${back?.unit ?? ""}. Enter keeps it as right.`
            : late
              ? `${back?.name} has not followed within ${seconds} s: it reads ${live ? shown(live) : "nothing"}.`
              : `Waiting for ${back?.name} to become ${wrote}…`}
        </p>
      )}
    </section>
  );
}

/** Whether a feedback is what was written: numbers to within a tolerance, in per cent of it or in its unit. */
function follows(live: Live, wrote: string, tolerance: string): boolean {
  if (typeof live.value !== "number") return live.shown === wrote;
  const number = Number.parseFloat(wrote.replace(/[\s\u2009]/g, ""));
  const amount = Number.parseFloat(tolerance.replace(",", ".")) || 0;
  const most = tolerance.includes("%") ? (Math.abs(number) * amount) / 100 : amount;
  return Math.abs(live.value - number) <= most + 1e-9;
}

/** A value as it is typed: without the name behind a number. */
function plain(text: string) {
  const at = text.indexOf(" · ");
  return at < 0 ? text : text.slice(0, at);
}

/** The point that most likely follows: one that is only read, of the same unit, whose name begins alike; or the point itself. */
function feedbackOf(point: ProvingPoint, points: ProvingPoint[]): string {
  const alike = (name: string) => {
    let n = 0;
    while (n < name.length && name[n]?.toLowerCase() === point.name[n]?.toLowerCase()) n++;
    return n;
  };
  const best = points
    .filter((p) => !p.writable && p.unit === point.unit && p.twoState === point.twoState && alike(p.name) >= 3)
    .sort((a, b) => alike(b.name) - alike(a.name))[0];
  return best?.point ?? point.point;
}
