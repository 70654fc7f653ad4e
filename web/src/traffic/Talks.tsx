import { useState } from "react";
import type { TalkView } from "../api/types.gen";
import { count } from "../shared/numbers";
import type { Wanted } from "./recorded";

const times = (ms: number) => (ms === 0 ? "" : ms < 10 ? ms.toFixed(1) : String(Math.round(ms)));

/** Who asks whom for what, how often, and what comes of it. */
export function Talks({
  talks,
  spanMs,
  onPick,
}: {
  talks: TalkView[];
  spanMs: number;
  onPick: (w: Wanted, talk: TalkView) => void;
}) {
  const [open, setOpen] = useState<string>();
  const seconds = Math.max(spanMs / 1000, 0.001);
  return (
    <div className="min-h-0 flex-1 overflow-auto bg-sheet">
      <table className="table w-full" aria-label="Who asks whom">
        <thead>
          <tr>
            {[
              "Asks",
              "Answers",
              "Questions",
              "a second",
              "Answered",
              "Median, ms",
              "99 %, ms",
              "Longest, ms",
              "How long",
            ].map((h) => (
              <th key={h} className="px-3 py-2 text-left whitespace-nowrap">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {talks.map((t) => {
            const key = t.link ?? `${t.asker} ${t.at} ${t.station}`;
            const failed = t.asked - t.answered;
            return [
              <tr key={key} className="border-t border-rule" data-talk={key}>
                <td className="mono px-3 py-1 whitespace-nowrap">{t.asker}</td>
                <td className="px-3 py-1">
                  <button
                    type="button"
                    className="text-left font-semibold underline"
                    onClick={() => setOpen(open === key ? undefined : key)}
                  >
                    {t.answerer}
                  </button>
                </td>
                <td className="px-3 py-1 text-right">
                  <button
                    type="button"
                    className="underline"
                    title="Show them"
                    onClick={() =>
                      onPick({ asker: t.asker, at: t.at, station: t.station < 0 ? undefined : t.station }, t)
                    }
                  >
                    {t.asked}
                  </button>
                </td>
                <td className="px-3 py-1 text-right">{(t.asked / seconds).toFixed(1)}</td>
                <td className="px-3 py-1 whitespace-nowrap" style={failed ? { color: "var(--fault)" } : undefined}>
                  {((100 * t.answered) / Math.max(t.asked, 1)).toFixed(1)} %
                  {failed > 0 && (
                    <span className="small">
                      {" "}
                      {[
                        t.none && `${t.none} without${t.madeGood ? ` (${t.madeGood} made good)` : ""}`,
                        t.declined && `${t.declined} refused`,
                        t.garbled && `${t.garbled} broken`,
                      ]
                        .filter(Boolean)
                        .join(", ")}
                    </span>
                  )}
                </td>
                <td className="px-3 py-1 text-right">{times(t.medianMs)}</td>
                <td className="px-3 py-1 text-right">{times(t.p99Ms)}</td>
                <td className="px-3 py-1 text-right">{times(t.mostMs)}</td>
                <td className="px-3 py-1">
                  <Latency counts={t.latency} />
                </td>
              </tr>,
              open === key && (
                <tr key={key + " asked"}>
                  <td colSpan={9} className="bg-paper px-6 py-2">
                    <Requests talk={t} onPick={onPick} />
                  </td>
                </tr>
              ),
            ];
          })}
        </tbody>
      </table>
      {talks.length === 0 && <p className="soft p-6">Nobody talks in a way that Ferry knows.</p>}
    </div>
  );
}

function Requests({ talk, onPick }: { talk: TalkView; onPick: (w: Wanted, talk: TalkView) => void }) {
  return (
    <ul aria-label="What it is asked for">
      {talk.requests.map((r) => (
        <li key={`${r.function} ${r.says} ${r.area} ${r.start} ${r.count}`} className="flex gap-4 py-[2px]">
          <button
            type="button"
            className="min-w-[280px] text-left underline"
            onClick={() =>
              onPick(
                {
                  asker: talk.asker,
                  at: talk.at,
                  station: talk.station < 0 ? undefined : talk.station,
                  function: r.function,
                  area: r.area,
                  offset: r.start,
                  count: r.count,
                },
                talk,
              )
            }
          >
            {r.says}
          </button>
          {!r.write && r.area && (
            <button
              type="button"
              className="soft underline"
              aria-label={`Values of ${r.says}`}
              onClick={() =>
                onPick(
                  {
                    view: "history",
                    at: talk.at,
                    station: talk.station < 0 ? undefined : talk.station,
                    area: r.area,
                    offset: r.start,
                  },
                  talk,
                )
              }
            >
              values
            </button>
          )}
          <span>{count(r.asked, "time")}</span>
          <span className="soft">
            {r.everyMs > 0 ? `every ${(r.everyMs / 1000).toFixed(r.everyMs < 10_000 ? 2 : 0)} s` : "once"}
          </span>
          {r.answered < r.asked && <span className="text-fault">{r.asked - r.answered} without a right answer</span>}
        </li>
      ))}
      {talk.beyond > 0 && <li className="soft">and {count(talk.beyond, "question")} of further kinds</li>}
    </ul>
  );
}

/** How many answers took how long: each bar is twice as long a time as the one before, from under 1 ms. */
function Latency({ counts }: { counts: number[] }) {
  const most = Math.max(1, ...counts);
  const labels = counts.map((n, i) => `${n} within ${2 ** i} ms`).filter((_, i) => counts[i]);
  return (
    <span
      className="inline-flex h-[22px] items-end gap-px"
      role="img"
      aria-label={labels.join(", ")}
      title={labels.join("\n")}
    >
      {counts.map((n, i) => (
        <span
          key={i}
          className="w-[7px]"
          style={{ height: n ? Math.max(2, (22 * n) / most) : 1, background: n ? "var(--tide)" : "var(--rule)" }}
        />
      ))}
    </span>
  );
}
