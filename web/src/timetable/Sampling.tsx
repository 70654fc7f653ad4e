import { useQuery } from "@tanstack/react-query";
import { memo, useMemo, useState } from "react";
import { get, useEdit } from "../api/client";
import type { PointView, SamplingRow, SamplingView, SiteView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { Mark, markOf } from "../shared/Mark";
import { number } from "../shared/numbers";
import { attempt } from "../shared/toast";
import { paceWord } from "./Requests";

/** Whether paces see every change of the signals, by what is stated or by what the samples show. */
export const Sampling = memo(function Sampling({ site, line }: { site: SiteView; line: string }) {
  const devices = useMemo(() => {
    const asked = new Set(site.links.filter((l) => l.line === line).map((l) => l.answering));
    return site.devices.filter((d) => asked.has(d.id));
  }, [site, line]);
  const [chosen, setChosen] = useState("");
  const device = devices.find((d) => d.id === chosen) ?? devices[0];
  const { data } = useQuery({
    queryKey: ["sampling", device?.id],
    queryFn: () => get<SamplingView>(`/api/devices/${device?.id}/sampling`),
    enabled: !!device,
    refetchInterval: 3000,
  });
  return (
    <section className="card aside p-4" aria-label="Sampling">
      <div className="mb-1 flex items-center gap-3">
        <h3>Does the pace see every change?</h3>
        <select
          className="input ml-auto !w-[190px]"
          aria-label="Device of the samples"
          value={device?.id ?? ""}
          onChange={(e) => setChosen(e.target.value)}
        >
          {devices.map((d) => (
            <option key={d.id} value={d.id} title={d.name}>
              {shortened(d.name, 22)}
            </option>
          ))}
        </select>
      </div>
      <p className="small soft mb-1">
        A signal must be read twice for each of its changes to be seen at all, four times to be trusted.
      </p>
      <table className="rows" aria-label="Sampling">
        <thead>
          <tr>
            <th>
              <span className="sr-only">Verdict</span>
            </th>
            <th>Point</th>
            <th>Pace</th>
            <th>Fastest change</th>
            <th>What that means</th>
          </tr>
        </thead>
        <tbody>
          {data?.rows.map((row) => (
            <Row key={row.point} row={row} />
          ))}
        </tbody>
      </table>
    </section>
  );
});

const Row = memo(function Row({ row }: { row: SamplingRow }) {
  const edit = useEdit();
  const [text, setText] = useState<string>();
  const keep = (ms: number) =>
    attempt(async () => {
      const view = await get<PointView>(`/api/points/${row.point}`);
      await edit(`stated how fast ${row.name} changes`, [
        {
          kind: "point",
          id: row.point,
          parent: row.device,
          base: view.version,
          after: { ...view.point, changeMs: Math.round(ms) || undefined },
        },
      ]);
      setText(undefined);
    });
  const typed = (t: string) =>
    attempt(async () => {
      const s = number(t);
      if (s < 0) throw new Error(`“${t}” is less than nothing.`);
      await keep(1000 * s);
    });
  const stated = row.changeMs ? String(row.changeMs / 1000) : "";
  return (
    <tr>
      <td>
        <Mark kind={row.verdict ? markOf(row.verdict) : "not-yet"} size={14} />
      </td>
      <td className="font-semibold">{row.name}</td>
      <td className="whitespace-nowrap">{paceWord(row.paceMs)}</td>
      <td className="whitespace-nowrap">
        <input
          className="input mono !w-[64px]"
          aria-label={`Fastest change of ${row.name}, s`}
          placeholder="s"
          value={text ?? stated}
          onChange={(e) => setText(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && text !== undefined && void typed(text)}
          onBlur={() => text !== undefined && text !== stated && void typed(text)}
        />{" "}
        {row.seenMs > 0 && row.seenMs !== row.changeMs && (
          <button type="button" className="small underline" onClick={() => void keep(row.seenMs)}>
            seen {(row.seenMs / 1000).toFixed(1)}
            {"\u2009"}s
          </button>
        )}
      </td>
      <td className="small">{row.sentence}</td>
    </tr>
  );
});
