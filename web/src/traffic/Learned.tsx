import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, problemOf } from "../api/client";
import type { EditAnswer, HeardDevice } from "../api/types.gen";
import { count } from "../shared/numbers";
import { attempt, say } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";

/** What a recording tells of a system that nobody documented: its devices, and what their points may be. */
export function Learned({ id, ready }: { id: string; ready: boolean }) {
  const client = useQueryClient();
  const { data, error } = useQuery({
    queryKey: ["learned", id],
    queryFn: () => get<HeardDevice[]>(`/api/recordings/${id}/learn`),
    enabled: ready,
    retry: false,
  });
  const [off, setOff] = useState<Set<number>>(new Set());
  const [open, setOpen] = useState<number>();
  if (error)
    return (
      <div className="p-4">
        <ProblemNotice problem={problemOf(error)} />
      </div>
    );
  if (!data) return <p className="soft p-6">Looking at what was said…</p>;
  const fresh = data.filter((p) => !p.known);
  const chosen = fresh.filter((p) => !off.has(p.talk)).map((p) => p.talk);
  const take = () =>
    attempt(async () => {
      await post<EditAnswer>(`/api/recordings/${id}/learn`, { talks: chosen });
      await client.invalidateQueries({ queryKey: ["site"] });
      await client.invalidateQueries({ queryKey: ["learned", id] });
      say(`${count(chosen.length, "device")} made of what was heard. Ctrl Z takes it back.`);
    });
  return (
    <div className="min-h-0 flex-1 overflow-y-auto bg-sheet p-4" aria-label="Learned">
      <div className="mb-3 flex items-center gap-3">
        <p className="soft max-w-[64ch]">
          Who answered, and what was asked of it. Types and orders are guessed from how the values moved: names, units
          and scales are yours to give.
        </p>
        <button
          type="button"
          className="button primary ml-auto"
          disabled={chosen.length === 0}
          onClick={() => void take()}
        >
          Add {count(chosen.length, "device")} to the site
        </button>
      </div>
      {data.length === 0 && <p className="soft">Nobody answered in a way that tells of a device.</p>}
      {data.map((p) => (
        <section key={p.talk} className="border-t border-rule py-2" data-learned={`${p.at}/${p.station}`}>
          <div className="flex items-center gap-3">
            <input
              type="checkbox"
              aria-label={`Take ${p.at} ${p.station}`}
              disabled={!!p.known}
              checked={!p.known && !off.has(p.talk)}
              onChange={(e) => {
                const next = new Set(off);
                if (e.target.checked) next.delete(p.talk);
                else next.add(p.talk);
                setOff(next);
              }}
            />
            <button
              type="button"
              className="font-semibold underline"
              onClick={() => setOpen(open === p.talk ? undefined : p.talk)}
            >
              {p.at}
              {p.station >= 0 && `, number ${p.station}`}
            </button>
            <span className="small soft">
              {p.title} · asked by {p.askers.join(", ")}, {count(p.asked, "time")} · {count(p.points.length, "point")}
            </span>
            {p.known && <span className="small soft ml-auto">in the site already: {p.known}</span>}
          </div>
          {open === p.talk && (
            <table className="mt-2 ml-7" aria-label="Points that it may have">
              <thead>
                <tr className="small soft text-left">
                  {["Address", "Reads as", "Pace", "Access", "Sure", "Values", "Why"].map((h) => (
                    <th key={h} className="pr-5 font-normal">
                      {h}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {p.points.map((g) => (
                  <tr key={g.at} data-guess={g.at}>
                    <td className="mono pr-5">{g.at}</td>
                    <td className="mono pr-5">
                      {g.type} {g.order}
                    </td>
                    <td className="pr-5">{g.paceMs > 0 ? `${g.paceMs / 1000} s` : "once"}</td>
                    <td className="pr-5">{g.access}</td>
                    <td className="pr-5">{Math.round(100 * g.sure)} %</td>
                    <td className="mono pr-5">{g.seen}</td>
                    <td className="small soft">{g.why}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </section>
      ))}
    </div>
  );
}
