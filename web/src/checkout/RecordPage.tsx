import { useQuery } from "@tanstack/react-query";
import { get } from "../api/client";
import { useLiveState } from "../api/live";
import type { JournalView, Record as WriteRecord } from "../api/types.gen";
import { Mark, type MarkKind } from "../shared/Mark";
import { Empty } from "../shared/ui";

/** How what is known of a write is marked. */
const marks: Record<string, MarkKind> = {
  written: "good",
  carrying: "good",
  "not written": "fault",
  failed: "fault",
  "not known": "doubt",
  holding: "stale",
};

/** What has been done: every write to a device with what read back, and every change of the site. */
export function RecordPage() {
  useLiveState();
  const { data } = useQuery({
    queryKey: ["journal"],
    queryFn: () => get<JournalView>("/api/journal"),
    refetchInterval: 2000,
  });
  if (!data) return <p className="soft p-8">Reading the journal…</p>;
  const when = (at: string) => new Date(at).toLocaleString("en-GB", { dateStyle: "short", timeStyle: "medium" });
  return (
    <div className="grid min-w-0 flex-1 grid-cols-[3fr_2fr] gap-4 overflow-hidden p-4 max-[1100px]:grid-cols-1">
      <section className="card flex min-h-0 flex-col">
        <h2 className="p-3">Written to devices</h2>
        {/* oxlint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- what scrolls must be reached by the keyboard */}
        <div className="min-h-0 flex-1 overflow-y-auto" role="region" aria-label="Writes to devices" tabIndex={0}>
          {data.written.length === 0 ? (
            <Empty title="Nothing has been written yet">
              Open a point that may be written under Points, enter a value, and look at what goes where before it goes.
              Every write is kept here with what read back.
            </Empty>
          ) : (
            <table className="rows" aria-label="Written to devices">
              <thead>
                <tr>
                  <th>
                    <span className="sr-only">Result</span>
                  </th>
                  <th>When</th>
                  <th>What</th>
                  <th className="num">Old</th>
                  <th className="num">New</th>
                  <th className="num">Read back</th>
                  <th>Where</th>
                </tr>
              </thead>
              <tbody>
                {data.written.map((w) => {
                  const r = w.result as WriteRecord;
                  const own = r.state === "written" || r.state === "carrying";
                  return (
                    <tr key={w.id} data-write={r.state} title={`${r.sentence} ${w.who}`}>
                      <td>
                        <Mark kind={marks[r.state] ?? "not-yet"} label={r.sentence || r.state} />
                      </td>
                      <td className="mono whitespace-nowrap">{when(w.at)}</td>
                      <td>
                        <b className="break-words">
                          {r.order.device} · {r.order.name}
                        </b>
                        <div className="small soft">
                          {r.order.address}
                          {r.crossing ? "" : " · " + r.order.function} · {w.who}
                        </div>
                        {(!own || r.crossing) && (
                          <div className="small">
                            {r.crossing && r.state === "carrying"
                              ? `carrying, written ${r.count ?? 0}×`
                              : r.sentence || r.state}
                          </div>
                        )}
                      </td>
                      <td className="num">{r.order.old || "—"}</td>
                      <td className="num">
                        {r.order.new || "—"}
                        {r.last && r.last !== r.order.new && <div className="small soft">last {r.last}</div>}
                      </td>
                      <td className="num">{r.readBack || "—"}</td>
                      <td className="whitespace-nowrap">{r.order.mode === "plant" ? <b>plant</b> : "bench"}</td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
          )}
        </div>
      </section>
      <section className="card flex min-h-0 flex-col">
        <h2 className="p-3">Changed in the site</h2>
        <ol className="min-h-0 flex-1 overflow-y-auto px-3 pb-3" aria-label="Changes of the site">
          {data.entries.map((e) => (
            <li key={e.seq} className="border-b border-rule py-1">
              <span className="break-words">
                {e.action === "undo" ? "Took back: " : e.action === "redo" ? "Did again: " : ""}
                {e.what}
              </span>
              <div className="small soft">
                <span className="mono">{when(e.at)}</span> · {e.who}
              </div>
            </li>
          ))}
        </ol>
      </section>
    </div>
  );
}
