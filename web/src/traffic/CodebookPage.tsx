import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useDeferredValue } from "react";
import { get } from "../api/client";
import type { Meaning } from "../api/types.gen";

/** What a number means that some box or program shows. */
export function CodebookPage() {
  const { q = "" } = useSearch({ strict: false }) as { q?: string | number };
  const text = String(q);
  const asked = useDeferredValue(text);
  const navigate = useNavigate();
  const { data } = useQuery({
    queryKey: ["codebook", asked],
    queryFn: () => get<Meaning[]>(`/api/codebook?q=${encodeURIComponent(asked)}`),
    placeholderData: (old) => old,
  });
  return (
    <div className="min-w-0 flex-1 overflow-y-auto p-6" data-page="codebook">
      <div className="flex items-center gap-3">
        <h2>What does a number mean?</h2>
        <Link to="/traffic" className="small underline">
          Back to traffic
        </Link>
      </div>
      <label className="small soft mt-3 block">
        The number that a box or a program shows, in decimal or as 0x…, or some words of what it says
        <input
          className="input mono mt-1 block !w-[360px]"
          type="search"
          aria-label="Number or words"
          autoFocus
          placeholder="10061, 0x0B, connection reset"
          value={text}
          spellCheck={false}
          onChange={(e) =>
            void navigate({ to: "/traffic/codebook", search: { q: e.target.value }, replace: true } as never)
          }
        />
      </label>
      {text !== "" && data?.length === 0 && (
        <p className="soft mt-4 max-w-[70ch]">
          No protocol and no system that Ferry knows has it. Look which box shows it: its own manual has a list.
        </p>
      )}
      <ul className="mt-4 max-w-[820px]" aria-label="Meanings">
        {data?.map((e) => (
          <li key={e.of + e.number + e.name} className="card mb-2 p-3" data-code={e.number}>
            <div className="flex flex-wrap items-baseline gap-x-3">
              <span className="mono font-semibold">{e.number}</span>
              <b>{e.name}</b>
              <span className="small soft ml-auto">{e.of}</span>
            </div>
            <p className="mt-1">{e.means}</p>
            <p className="soft mt-1">{e.look}</p>
            {e.findings && <p className="small soft mt-1">Seen in traffic as {e.findings.join(", ")}.</p>}
          </li>
        ))}
      </ul>
    </div>
  );
}
