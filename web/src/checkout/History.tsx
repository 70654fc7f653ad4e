import { useQueryClient } from "@tanstack/react-query";
import { post } from "../api/client";
import type { ProofView, RecordedView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { standing } from "./Walk";

const methods: Record<string, string> = {
  display: "by its display",
  seen: "confirmed",
  moved: "moved",
  command: "by a command",
  ramped: "through a ramp",
  listed: "from a list",
};

/** What was proved of a point, the latest first, and what the next proof will name. */
export function History({ view, point, onGone }: { view?: ProofView; point: string; onGone: () => void }) {
  const client = useQueryClient();
  const withdraw = () =>
    attempt(async () => {
      await post<RecordedView>("/api/checkout", { result: "withdrawn", points: [{ point }] });
      await client.invalidateQueries({ queryKey: ["checkout"] });
      onGone();
      say("Taken back: the point is to be proved. The record keeps both.");
    });
  if (!view) return null;
  const v = view.versions;
  const last = view.proofs[0];
  return (
    <section className="mt-4" aria-label="What was proved">
      <div className="flex flex-wrap items-baseline gap-2">
        <h3>What was proved</h3>
        <span className="small soft min-w-0 flex-1">
          {view.proofs.length === 0 && "never yet · "}the next names map {v.map || "as begun"}
          {v.link > 0 && `, link ${v.link}`}
          {v.crossing > 0 && `, crossing ${v.crossing}`}
        </span>
        {last && last.result !== "withdrawn" && (
          <button type="button" className="button tight" onClick={() => void withdraw()}>
            Take the last one back
          </button>
        )}
      </div>
      {view.proofs.length > 0 && (
        <table className="rows mt-1">
          <tbody>
            {view.proofs.slice(0, 8).map((p) => (
              <tr key={p.id}>
                <td className="w-[1px]">
                  <Mark kind={standing[p.result] ?? "not-yet"} size={14} label={p.result} />
                </td>
                <td className="mono whitespace-nowrap">
                  {p.read} {p.unit}
                </td>
                <td className="mono whitespace-nowrap">{p.shown && `display ${p.shown}`}</td>
                <td className="mono">{p.far && `far ${p.far}`}</td>
                <td className="small">
                  {[p.result === "withdrawn" ? "taken back" : methods[p.method ?? ""], p.reason, p.remark]
                    .filter(Boolean)
                    .join(" · ")}
                </td>
                <td className="small soft whitespace-nowrap">
                  {p.who} · {new Date(p.atMs).toLocaleString("en-GB", { dateStyle: "short", timeStyle: "medium" })} ·{" "}
                  {p.mode}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}
