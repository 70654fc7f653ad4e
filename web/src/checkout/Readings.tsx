import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, problemOf } from "../api/client";
import { nameOf } from "../api/site";
import type {
  ColumnView,
  SiteView,
  Problem,
  ProofRequest,
  ReadingRow,
  ReadingsView,
  RecordedView,
} from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { say } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";

/** Many at once: a column of what the displays show, as a sheet has it, beside what Ferry reads. */
export function Readings({ site, device }: { site: SiteView; device: string }) {
  const name = nameOf(site, device);
  const client = useQueryClient();
  const [text, setText] = useState("");
  const [rows, setRows] = useState<ReadingRow[]>();
  const [said, setSaid] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const guarded = async (work: () => Promise<void>) => {
    setProblem(undefined);
    try {
      await work();
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const compare = (what: string) =>
    guarded(async () => {
      setRows(undefined);
      if (what.trim()) setRows((await post<ReadingsView>("/api/checkout/readings", { device, text: what })).rows);
    });
  const fill = (what: string) => {
    setText(what);
    void compare(what);
  };
  /** The same values as another program has them, which is read over a link of its own. */
  const readFrom = (from: string) =>
    guarded(async () => {
      setSaid("");
      const column = await get<ColumnView>(`/api/checkout/devices/${device}/column?from=${from}`);
      setSaid(
        `${nameOf(site, from)} has ${column.text ? column.text.split("\n").length : 0} of these points` +
          `${column.unread ? `, and ${column.unread} that are not read` : ""}; ${column.without} it has not.`,
      );
      fill(column.text);
    });
  const agree = rows?.filter((r) => r.judged && r.agrees) ?? [];
  const apart = rows?.filter((r) => r.judged && !r.agrees) ?? [];
  const keep = (list: ReadingRow[], result: ProofRequest["result"]) =>
    guarded(async () => {
      await post<RecordedView>("/api/checkout", {
        result,
        method: "listed",
        points: list.map((r) => ({ point: r.point ?? "", shown: r.shown, read: r.read, readAtMs: r.readAtMs })),
      } satisfies ProofRequest);
      await client.invalidateQueries({ queryKey: ["checkout"] });
      say(`${list.length} kept as ${result}.`);
      setRows(rows?.filter((r) => !list.includes(r)));
    });
  return (
    <details className="mt-4">
      <summary className="font-semibold">Many at once: a column of readings</summary>
      <p className="small soft mt-1">
        What the displays of {name} show, from a sheet: a name and a reading in each line, or the readings alone in the
        order of the list.
      </p>
      <textarea
        className="input mono mt-1 h-[96px]"
        aria-label="Readings"
        placeholder={"Oxygen\t8.4\nWaterTemp\t12.7"}
        value={text}
        onChange={(e) => fill(e.target.value)}
      />
      <div className="mt-1 flex flex-wrap items-center gap-3">
        <label className="small soft flex items-center gap-2">
          or a file
          <input
            type="file"
            accept=".csv,.txt,text/csv,text/plain"
            aria-label="File of readings"
            onChange={(e) => void e.target.files?.[0]?.text().then(fill)}
          />
        </label>
        <label className="small soft flex items-center gap-2">
          or what another program shows
          <select
            className="input !w-[220px]"
            aria-label="What another program shows"
            value=""
            onChange={(e) => void readFrom(e.target.value)}
          >
            <option value="">read it from…</option>
            {site.devices
              .filter((d) => d.id !== device && d.pointCount > 0)
              .map((d) => (
                <option key={d.id} value={d.id}>
                  {d.name}
                </option>
              ))}
          </select>
        </label>
        {said && <span className="small">{said}</span>}
      </div>
      {problem && <ProblemNotice problem={problem} />}
      {rows && rows.length > 0 && (
        <>
          <table className="rows mt-2" aria-label="Readings beside what Ferry reads">
            <thead>
              <tr>
                <th>Point</th>
                <th className="num">Display</th>
                <th className="num">Ferry reads</th>
                <th>
                  <span className="sr-only">The same</span>
                </th>
                <th className="num">Apart</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((r) => (
                <tr key={r.line} data-agrees={r.judged ? r.agrees : undefined}>
                  <td>{r.name || `line ${r.line}`}</td>
                  <td className="num">{r.shown}</td>
                  <td className="num">
                    {r.read} <span className="soft">{r.read && r.unit}</span>
                  </td>
                  <td>
                    <Mark kind={!r.judged ? "not-yet" : r.agrees ? "good" : "fault"} size={14} />
                  </td>
                  <td className="num">
                    {r.judged ? Number(r.apart.toPrecision(3)) || "" : <span className="small font-sans">{r.why}</span>}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <div className="mt-2 flex flex-wrap gap-2">
            {agree.length > 0 && (
              <button type="button" className="button main" onClick={() => void keep(agree, "right")}>
                Keep the {agree.length} that agree as right
              </button>
            )}
            {apart.length > 0 && (
              <button type="button" className="button" onClick={() => void keep(apart, "wrong")}>
                Keep the {apart.length} that are apart as wrong
              </button>
            )}
            <button type="button" className="button" onClick={() => void compare(text)}>
              Compare again
            </button>
          </div>
        </>
      )}
    </details>
  );
}
