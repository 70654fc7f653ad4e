import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { Tabs } from "radix-ui";
import { useState } from "react";
import { get, problemOf } from "../api/client";
import type { ExchangeView, Field } from "../api/types.gen";
import { clock, ProblemNotice } from "../shared/ui";
import { lookUp } from "./codes";

export type Base = "hex" | "decimal" | "binary";
const colours: Record<string, string> = {
  frame: "var(--ink)",
  data: "var(--ink2)",
  point: "var(--tide)",
  gap: "var(--notyet)",
  broken: "var(--fault)",
};

/** The bytes of one exchange, labelled in place with what they mean to this site. */
export function BytesView({ seq }: { seq: string }) {
  const { data, error } = useQuery({
    queryKey: ["exchange", seq],
    queryFn: () => get<ExchangeView>(`/api/exchanges/${seq}`),
    staleTime: Infinity,
    retry: false,
  });
  const [base, setBase] = useState<Base>("hex");
  if (error)
    return (
      <section className="flex-none border-t-2 border-ink bg-sheet p-3">
        <ProblemNotice problem={problemOf(error)} />
      </section>
    );
  if (!data) return null;
  const report = data.outcome === "reported";
  const several = data.frames.length > 2;
  return (
    <section className="max-h-[46%] flex-none overflow-y-auto border-t-2 border-ink bg-sheet p-3" aria-label="Bytes">
      <div className="mb-2 flex items-center gap-3">
        <h3>{data.operation}</h3>
        <span className="small soft">
          <span className="mono">{clock(Date.parse(data.at))}</span>
          {report ? "" : ` · ${data.latencyMs.toFixed(1)} ms`} · {data.outcome}
          {data.lateMs > 1 ? ` · asked ${data.lateMs.toFixed(1)} ms late` : ""}
        </span>
        <BaseTabs base={base} onBase={setBase} />
        <Link
          to="/traffic"
          search={((old: object) => old) as never}
          aria-label="Close the bytes"
          className="font-semibold underline"
        >
          Close
        </Link>
      </div>
      {data.sentence && (
        <p className="mb-2 font-semibold text-fault">
          {data.sentence}
          {lookUp(data.outcome, data.code) && (
            <>
              {" "}
              <Link
                to="/traffic/codebook"
                search={{ q: lookUp(data.outcome, data.code) } as never}
                className="font-normal underline"
              >
                What this means
              </Link>
            </>
          )}
        </p>
      )}
      {!report && !data.frames.some((f) => f.out) && <p className="soft">No bytes were sent.</p>}
      {data.frames.map((f, i) => (
        <Bytes
          key={i}
          title={f.out ? "Request" : report ? "Report" : "Answer"}
          after={several ? f.afterMs : undefined}
          hex={f.hex}
          fields={f.fields}
          base={base}
        />
      ))}
      {data.frames.length > 0 && data.frames.every((f) => f.out) && <p className="soft">No bytes came back.</p>}
    </section>
  );
}

/** In which notation octets are shown. */
export function BaseTabs({ base, onBase }: { base: Base; onBase: (base: Base) => void }) {
  return (
    <Tabs.Root value={base} onValueChange={(v) => onBase(v as Base)} className="ml-auto">
      <Tabs.List className="flex gap-2" aria-label="Notation">
        {(["hex", "decimal", "binary"] as const).map((b) => (
          <Tabs.Trigger
            key={b}
            value={b}
            className="small px-1 data-[state=active]:font-bold data-[state=active]:underline"
          >
            {b}
          </Tabs.Trigger>
        ))}
      </Tabs.List>
    </Tabs.Root>
  );
}

/** More bytes than these in one field are shown by their first four. */
const longest = 24;

export function Bytes({
  title,
  kind = title.toLowerCase(),
  after,
  hex,
  fields,
  base,
}: {
  title: string;
  kind?: string; // request, answer or report
  after?: number; // milliseconds after the beginning, where that tells frames apart
  hex: string;
  fields: Field[];
  base: Base;
}) {
  const bytes = hex.split(" ");
  const print = (b: string) =>
    base === "hex" ? b : base === "decimal" ? String(parseInt(b, 16)) : parseInt(b, 16).toString(2).padStart(8, "0");
  return (
    <div className="mb-2" data-bytes={kind}>
      <div className="small soft mb-1">
        {title}
        {after === undefined ? "" : ` after ${after.toFixed(1)}\u2009ms`}, {bytes.length} bytes
      </div>
      <div className="flex flex-wrap gap-[3px]">
        {fields.map((f) => (
          <div
            key={`${f.from}-${f.label}`}
            className="max-w-[260px] pt-[2px] pr-2 pl-1"
            style={{ borderTop: `3px solid ${colours[f.role] ?? "var(--ink)"}` }}
            title={f.meaning}
          >
            <div className="mono break-words">
              {bytes
                .slice(f.from, f.to > f.from + longest ? f.from + 4 : f.to)
                .map(print)
                .join(" ")}
              {f.to > f.from + longest ? ` … ${f.to - f.from} bytes` : ""}
            </div>
            <div className="small truncate" style={{ color: colours[f.role] }}>
              {f.role === "point" ? (
                <>
                  <b>{f.label}</b> {f.meaning}
                </>
              ) : (
                <>
                  {f.label}
                  {f.meaning ? " " + f.meaning : ""}
                </>
              )}
            </div>
          </div>
        ))}
      </div>
    </div>
  );
}
