import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { get, problemOf } from "../api/client";
import type { Commanding } from "../api/types.gen";
import { ProblemNotice } from "./ui";
import { useWriter } from "./Writer";

/** Who commands a value that several may command at once, with ways to command it at a level and to give that up. */
export function Levels({ id, unit }: { id: string; unit: string }) {
  const [open, setOpen] = useState(false);
  const [text, setText] = useState("");
  const [chosen, setChosen] = useState("");
  const { prepare, busy, shown, result } = useWriter(id, unit);
  const asked = useQuery({
    queryKey: ["levels", id],
    queryFn: () => get<Commanding>(`/api/levels/${id}`),
    enabled: open,
    retry: false,
    staleTime: 0,
  });
  const { refetch } = asked;
  useEffect(() => {
    if (result) void refetch();
  }, [result, refetch]);
  const levels = asked.data?.levels ?? [];
  const usual = levels.find((l) => l.usual)?.address ?? "";
  const at = chosen || usual;
  const held = levels.filter((l) => l.held || l.reason);
  return (
    <section className="mt-4" aria-label="Who commands it">
      <h3 className="mb-1 flex items-baseline justify-between">
        Who commands it
        <button
          type="button"
          className="small underline"
          disabled={asked.isFetching}
          onClick={() => (open ? void refetch() : setOpen(true))}
        >
          {asked.isFetching ? "Asking…" : open ? "Ask again" : "Ask the device"}
        </button>
      </h3>
      {open && asked.error && <ProblemNotice problem={problemOf(asked.error)} />}
      {open && asked.data && levels.length === 0 && <p className="small soft">It is not commanded at levels.</p>}
      {open && levels.length > 0 && (
        <>
          <table className="rows w-full" aria-label="Levels">
            <tbody>
              {held.map((l, i) => (
                <tr key={l.address}>
                  <td className="small">{l.title}</td>
                  <td className={"mono " + (i === 0 && l.held ? "font-semibold" : "")}>
                    {l.held ? `${l.value} ${unit}` : l.reason}
                  </td>
                  <td className="text-right">
                    {l.held && !l.closed && (
                      <button
                        type="button"
                        className="small underline"
                        disabled={busy}
                        aria-label={`Give up ${l.title}`}
                        onClick={() => void prepare("", { level: l.address, giveUp: true })}
                      >
                        Give up…
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <div className="mt-2 flex gap-2">
            <input
              className="input mono"
              aria-label="Value at a level"
              placeholder={`value${unit ? ", " + unit : ""}`}
              value={text}
              onChange={(e) => setText(e.target.value)}
            />
            <select className="input" aria-label="At the level" value={at} onChange={(e) => setChosen(e.target.value)}>
              {levels
                .filter((l) => !l.closed)
                .map((l) => (
                  <option key={l.address} value={l.address}>
                    {l.title}
                  </option>
                ))}
            </select>
            <button
              type="button"
              className="button"
              disabled={!text || busy}
              onClick={() => void prepare(text, { level: at })}
            >
              Command…
            </button>
          </div>
        </>
      )}
      {shown}
    </section>
  );
}
