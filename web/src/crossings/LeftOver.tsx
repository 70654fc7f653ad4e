import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState, type ReactNode } from "react";
import type { Candidate } from "../api/types.gen";

type Row = { kind: string; count: number } | Candidate;

const isHead = (row: Row): row is { kind: string; count: number } => "count" in row;

/** What has not been paired on one shore, by kinds; what does not fit the chosen one opposite stands back. */
export function LeftOver({
  title,
  list,
  chosen,
  fits,
  onChoose,
  children,
}: {
  title: string;
  list: Candidate[];
  chosen: string | undefined;
  /** The kind that is chosen opposite. */
  fits: string | undefined;
  onChoose: (id: string | undefined) => void;
  children?: ReactNode;
}) {
  const [words, setWords] = useState("");
  const scroller = useRef<HTMLDivElement>(null);
  const rows = useMemo(() => {
    const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
    const shown = wanted.length
      ? list.filter((c) => {
          const text = `${c.device} ${c.name} ${c.address}`.toLowerCase();
          return wanted.every((w) => text.includes(w));
        })
      : list;
    const kinds = new Map<string, Candidate[]>();
    for (const c of shown) kinds.set(c.kind, [...(kinds.get(c.kind) ?? []), c]);
    return [...kinds].flatMap(([kind, of]): Row[] => [{ kind, count: of.length }, ...of]);
  }, [list, words]);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: (i) => (rows[i] && isHead(rows[i]) ? 34 : 46),
    overscan: 12,
  });
  return (
    <section className="flex w-[268px] flex-none flex-col p-3" aria-label={title}>
      <h3 className="mb-2">{title}</h3>
      {children}
      <input
        className="input mb-2"
        aria-label={`${title}: words of a name`}
        placeholder="words of a name"
        value={words}
        onChange={(e) => setWords(e.target.value)}
      />
      {list.length === 0 && <p className="small soft">Nothing is left over.</p>}
      <div ref={scroller} className="min-h-0 flex-1 overflow-y-auto">
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((item) => {
            const row = rows[item.index];
            if (!row) return null;
            return (
              <div
                key={item.key}
                className="absolute left-0 w-full"
                style={{ height: item.size, transform: `translateY(${item.start}px)` }}
              >
                {isHead(row) ? (
                  <div className="small soft flex justify-between pt-3 font-semibold">
                    <span className="first-letter:uppercase">{row.kind}</span>
                    <span>{row.count}</span>
                  </div>
                ) : (
                  <button
                    type="button"
                    data-left={row.id}
                    aria-label={`${row.device} · ${row.name}`}
                    aria-pressed={row.id === chosen}
                    className="block h-[42px] w-full rounded-[8px] border border-rule bg-sheet px-2 text-left"
                    style={{
                      opacity: fits && fits !== row.kind ? 0.55 : 1,
                      boxShadow: row.id === chosen ? "inset 0 0 0 2px var(--tide)" : undefined,
                    }}
                    title={`${row.device} · ${row.name}`}
                    onClick={() => onChoose(row.id === chosen ? undefined : row.id)}
                  >
                    <span className="flex justify-between gap-2">
                      <b className="truncate">{row.name}</b>
                      <span className="mono soft flex-none">{row.unit ?? ""}</span>
                    </span>
                    <span className="small soft flex justify-between gap-2">
                      <span className="flex-none">{row.device}</span>
                      <span className="place mono" title={row.address}>
                        <bdi dir="ltr">{row.address}</bdi>
                      </span>
                    </span>
                  </button>
                )}
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}
