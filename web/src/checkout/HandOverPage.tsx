import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { get, person, problemOf, useSite } from "../api/client";
import { useLivePart } from "../api/live";
import type { CheckoutView, ReadersView, SiteView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { count } from "../shared/numbers";
import { ProblemNotice } from "../shared/ui";
import { sum } from "./Walk";

/** Everything that is handed over, made with one press, and the lists for whoever reads next. */
export function HandOverPage() {
  const { data: site } = useSite();
  const [name, setName] = useState(person.name());
  const proved = useLivePart((l) => l.proved);
  const mode = useLivePart((l) => l.state.mode);
  const { data: walk } = useQuery({
    queryKey: ["checkout", "walk", proved, mode],
    queryFn: () => get<CheckoutView>("/api/checkout"),
    placeholderData: (old) => old,
  });
  if (!site || !walk) return <p className="soft p-8">Looking at what there is to hand over…</p>;
  const total = sum(walk.stops);
  const left = total.left + total.again;
  const by = name ? `?by=${encodeURIComponent(name)}` : "";
  const part = (format: string) => `/api/file/pack.${format}${by}`;
  return (
    <div className="min-w-0 flex-1 overflow-y-auto p-6">
      <Link to="/checkout" className="small underline">
        Checkout
      </Link>
      <h2 className="mt-2">Hand over</h2>
      <section className="card mt-3 max-w-[900px] p-4" aria-label="The pack">
        <ul className="mb-3">
          <Stands good={total.wrong === 0 && left === 0}>
            {total.right} of {total.all} points are proved right
            {total.wrong > 0 && `, ${total.wrong} were found wrong`}
            {left > 0 && `, ${left} are not proved, or to be proved again`}
            {total.cannot > 0 && `; ${total.cannot} cannot be tested`}.
          </Stands>
          {mode === "bench" && (
            <Stands good={false}>
              These proofs are of the bench: on the plant only those count that were made there.
            </Stands>
          )}
          <Stands good={!!name}>
            <label className="flex flex-wrap items-center gap-2">
              It is handed over by
              <input
                className="input !w-[220px]"
                aria-label="Your name"
                placeholder="your name, for the cover"
                value={name}
                onChange={(e) => {
                  person.set(e.target.value);
                  setName(e.target.value);
                }}
              />
            </label>
          </Stands>
        </ul>
        <a className="button main" href={part("zip")} download>
          Make the pack
        </a>
        <p className="small soft mt-3">
          Lines as drawn, settings of both ends, maps, timetable with what was measured, crossings, the checkout record
          with room for signatures, open findings, access checklists, and what was changed and written. In one archive:
          PDF, HTML and XLSX, the tables as CSV, and JSON that comes back into Ferry with its proofs and snapshots.
        </p>
        <p className="mt-2 flex flex-wrap gap-3">
          <span className="small soft">One part alone:</span>
          {["pdf", "xlsx", "json"].map((format) => (
            <a key={format} className="small underline" href={part(format)} download>
              {format.toUpperCase()}
            </a>
          ))}
          <a className="small underline" href={part("html")} target="_blank" rel="noreferrer">
            HTML, to be printed
          </a>
          <a className="small underline" href="/api/file/checkout.csv" download>
            Record, CSV
          </a>
        </p>
      </section>
      <Readers site={site} />
    </div>
  );
}

function Stands({ good, children }: { good: boolean; children: React.ReactNode }) {
  return (
    <li className="flex items-start gap-2 py-[3px]">
      <span className="mt-[3px]">
        <Mark kind={good ? "good" : "doubt"} size={14} />
      </span>
      <span>{children}</span>
    </li>
  );
}

/** A list of points for a program that reads next, in its notation and with names that it can hold. */
function Readers({ site }: { site: SiteView }) {
  const [device, setDevice] = useState("");
  const [name, setName] = useState("{device}.{point}");
  const [rule, setRule] = useState("");
  const [notation, setNotation] = useState("");
  const query = new URLSearchParams({ device, name, rule, notation }).toString();
  const { data, error } = useQuery({
    queryKey: ["readers", query, site.seq],
    queryFn: () => get<ReadersView>(`/api/readers?${query}`),
    placeholderData: (old) => old,
    retry: false,
  });
  return (
    <section className="mt-6" aria-label="Lists for other readers">
      <h3>Lists for other readers</h3>
      <p className="soft small mb-2 max-w-[900px]">
        What the next program needs to read these points: where each lies in its own way of counting, how it is to be
        read, and a name that it can hold. Names that had to be shortened or told apart say so.
      </p>
      <div className="flex flex-wrap items-end gap-3">
        <Labelled text="Points of">
          <select className="input" aria-label="Points of" value={device} onChange={(e) => setDevice(e.target.value)}>
            <option value="">all devices</option>
            {site.devices
              .filter((d) => d.pointCount > 0)
              .map((d) => (
                <option key={d.id} value={d.id}>
                  {d.name}
                </option>
              ))}
          </select>
        </Labelled>
        <Labelled text="Names like">
          <input
            className="input mono"
            aria-label="Names like"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </Labelled>
        <Labelled text="that suit">
          <select className="input" aria-label="that suit" value={rule} onChange={(e) => setRule(e.target.value)}>
            <option value="">any program</option>
            {data?.rules.map((r) => (
              <option key={r.key} value={r.key}>
                {r.title}
              </option>
            ))}
          </select>
        </Labelled>
        <Labelled text="Addresses in">
          <select
            className="input"
            aria-label="Addresses in"
            value={notation}
            onChange={(e) => setNotation(e.target.value)}
          >
            <option value="">the usual notation</option>
            {data?.notations.map((n) => (
              <option key={n} value={n}>
                {n}
              </option>
            ))}
          </select>
        </Labelled>
        <a className="button" href={`/api/file/readers.xlsx?${query}`} download>
          XLSX
        </a>
        <a className="button" href={`/api/file/readers.csv?${query}`} download>
          CSV
        </a>
      </div>
      {error && <ProblemNotice problem={problemOf(error)} />}
      {data && !error && (
        <>
          <p className="small soft mt-2">{count(data.count, "point")}</p>
          <div className="mt-1">
            <table className="rows" aria-label="The list">
              <thead>
                <tr>
                  {data.columns.map((c) => (
                    <th key={c}>{c}</th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {data.rows.map((row) => (
                  <tr key={row[1]}>
                    {row.map((cell, i) => (
                      <td key={data.columns[i]} className={i === 0 || i === 3 ? "mono" : ""}>
                        {cell}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
            {data.count > data.rows.length && (
              <p className="small soft p-2">and {data.count - data.rows.length} more, which are in the file.</p>
            )}
          </div>
        </>
      )}
    </section>
  );
}

function Labelled({ text, children }: { text: string; children: React.ReactNode }) {
  return (
    <label className="small soft block">
      {text}
      <span className="block w-[190px] text-[var(--ink)]">{children}</span>
    </label>
  );
}
