import { useState } from "react";
import { deviceOf, lineOf } from "../api/site";
import type { Design, SheetView, SiteView, Typed as TypedRow } from "../api/types.gen";
import { nextStation, stationTitle, withMeters } from "./design";
import { Chosen, Typed, TypedNumber } from "./fields";

/** What can be typed at once: whether a line bears that is said in the forecast. */
const mostMeters = 999;

/** The meters on the line, added several at a time, and what is wanted of each model. */
export function Meters({
  site,
  lists,
  columns,
  design,
  onChange,
}: {
  site: SiteView;
  lists: SheetView[];
  columns: string[];
  design: Design;
  onChange: (d: Design) => void;
}) {
  const [sheet, setSheet] = useState("");
  const [many, setMany] = useState(1);
  const [from, setFrom] = useState<number>();
  const [name, setName] = useState("Meter {n}");
  const [open, setOpen] = useState<number>();
  const chosen = lists.find((l) => l.id === sheet) ?? lists.find((l) => /meter/i.test(l.name)) ?? lists[0];
  const station = stationTitle(site, chosen);
  const begins = from ?? nextStation(site, design);
  const add = () => {
    if (!chosen) return;
    onChange(withMeters(site, design, chosen.id, many, begins, name.trim() || "Meter {n}"));
    setFrom(undefined);
  };
  const line = lineOf(site, design.line);
  const there = line
    ? site.devices.filter((d) => d.ports.some((p) => p.line === line.id && p.protocol) && d.pointCount > 0)
    : [];
  const used = design.models.map((_, i) => design.meters.filter((m) => m.model === i && !m.device).length);
  return (
    <>
      <div className="grid grid-cols-[62px_1fr_66px_88px_auto] items-start gap-2">
        <TypedNumber label="How many" most={mostMeters} value={many} onChange={(n) => setMany(n ?? 1)} />
        <Chosen
          label="Of the model"
          value={chosen?.id ?? ""}
          options={lists.map((l) => ({ value: l.id, title: l.name }))}
          onChange={setSheet}
        />
        <TypedNumber
          label={`From ${station.toLowerCase()}`}
          most={mostMeters}
          open
          value={from}
          placeholder={String(nextStation(site, design))}
          onChange={setFrom}
        />
        <Typed label="Called" value={name} help="{n} stands for a number" onChange={setName} />
        <button type="button" className="button mt-[20px]" disabled={!chosen} onClick={add}>
          Add
        </button>
      </div>
      {there.length > 0 && (
        <p className="small soft mt-2">
          On the line already:{" "}
          {there.map((d) => {
            const on = design.meters.some((m) => m.device === d.id);
            const port = d.ports.find((p) => p.line === design.line);
            const number = Number(
              port?.settings?.[site.protocols.find((p) => p.name === port.protocol)?.station ?? ""] ?? 0,
            );
            return (
              <button
                key={d.id}
                type="button"
                className={"chip mr-1 " + (on ? "" : "underline")}
                aria-pressed={on}
                onClick={() =>
                  onChange({
                    ...design,
                    meters: on
                      ? design.meters.filter((m) => m.device !== d.id)
                      : [...design.meters, { name: d.name, station: number, model: 0, device: d.id }],
                  })
                }
              >
                {d.name}
              </button>
            );
          })}
        </p>
      )}
      {design.meters.length > 0 && (
        <table className="mt-3 w-full" aria-label="Meters">
          <thead>
            <tr className="small soft text-left">
              <th className="w-[64px] font-normal">{station}</th>
              <th className="font-normal">Name</th>
              <th className="font-normal">Model</th>
              <th aria-label="Leave out" />
            </tr>
          </thead>
          <tbody>
            {design.meters.map((m, i) => (
              <tr key={i}>
                <td className="pr-2">
                  <input
                    className="input mono"
                    aria-label={`${station} of ${m.name}`}
                    value={m.station || ""}
                    disabled={!!m.device}
                    onChange={(e) =>
                      /^\d{0,3}$/.test(e.target.value) &&
                      onChange(changed(design, i, { station: Number(e.target.value) }))
                    }
                  />
                </td>
                <td className="pr-2">
                  <input
                    className="input"
                    aria-label={`Name of meter ${i + 1}`}
                    value={m.name}
                    disabled={!!m.device}
                    onChange={(e) => onChange(changed(design, i, { name: e.target.value }))}
                  />
                </td>
                <td className="small max-w-[130px] truncate">
                  {m.device
                    ? (deviceOf(site, m.device)?.model ?? "is there")
                    : lists.find((l) => l.id === design.models[m.model]?.datasheet)?.name}
                </td>
                <td className="text-right">
                  <button
                    type="button"
                    className="small underline"
                    aria-label={`Leave out ${m.name}`}
                    onClick={() => onChange({ ...design, meters: design.meters.filter((_, k) => k !== i) })}
                  >
                    Leave out
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {design.models.map((m, i) => {
        const list = lists.find((l) => l.id === m.datasheet);
        if (!list || !used[i]) return null;
        const useful = list.rows.filter((r) => r.useful).map((r) => r.id);
        const picks = m.picks ?? useful;
        return (
          <div key={m.datasheet} className="mt-3 border-t border-rule pt-2">
            <button
              type="button"
              className="underline"
              aria-expanded={open === i}
              onClick={() => setOpen(open === i ? undefined : i)}
            >
              {list.name}: {picks.length + (m.more?.length ?? 0)} values of each, {list.rows.length} in its list
            </button>
            {open === i && (
              <Picks
                list={list}
                columns={columns}
                picks={picks}
                more={m.more ?? []}
                onPick={(next) =>
                  onChange({
                    ...design,
                    models: design.models.map((x, k) =>
                      k === i ? { ...x, picks: same(next, useful) ? undefined : next } : x,
                    ),
                  })
                }
                onMore={(more) =>
                  onChange({ ...design, models: design.models.map((x, k) => (k === i ? { ...x, more } : x)) })
                }
              />
            )}
          </div>
        );
      })}
    </>
  );
}

const same = (a: string[], b: string[]) => a.length === b.length && a.every((x) => b.includes(x));

const changed = (d: Design, at: number, patch: Partial<Design["meters"][number]>): Design => ({
  ...d,
  meters: d.meters.map((m, i) => (i === at ? { ...m, ...patch } : m)),
});

/** Which values of a list are wanted, and others that are typed. */
function Picks({
  list,
  columns,
  picks,
  more,
  onPick,
  onMore,
}: {
  list: SheetView;
  columns: string[];
  picks: string[];
  more: TypedRow[];
  onPick: (picks: string[]) => void;
  onMore: (more: TypedRow[]) => void;
}) {
  const at = (row: { cells: string[] }, column: string) => row.cells[columns.indexOf(column)] ?? "";
  const [row, setRow] = useState<TypedRow>({ name: "", address: "", type: "uint16", scale: "", unit: "" });
  return (
    <div className="mt-2">
      <div className="grid grid-cols-2 gap-x-3">
        {list.rows.map((r) => (
          <label key={r.id} className="flex min-h-6 min-w-0 items-baseline gap-2">
            <input
              type="checkbox"
              checked={picks.includes(r.id)}
              onChange={(e) =>
                onPick(list.rows.map((x) => x.id).filter((id) => (id === r.id ? e.target.checked : picks.includes(id))))
              }
            />
            <span className="truncate">{at(r, "name")}</span>
            <span className="mono soft small ml-auto whitespace-nowrap">
              {at(r, "address")} {at(r, "unit")}
            </span>
          </label>
        ))}
        {more.map((m, i) => (
          <span key={i} className="flex min-w-0 items-baseline gap-2">
            <button
              type="button"
              className="small underline"
              aria-label={`Leave out ${m.name}`}
              onClick={() => onMore(more.filter((_, k) => k !== i))}
            >
              out
            </button>
            <span className="truncate">{m.name}</span>
            <span className="mono soft small ml-auto whitespace-nowrap">
              {m.address} {m.unit}
            </span>
          </span>
        ))}
      </div>
      <form
        className="mt-2 grid grid-cols-[1fr_80px_84px_70px_56px_auto] items-end gap-1"
        onSubmit={(e) => {
          e.preventDefault();
          if (!row.name.trim() || !row.address.trim()) return;
          onMore([...more, row]);
          setRow({ ...row, name: "", address: "" });
        }}
      >
        <Typed label="Added by hand" value={row.name} onChange={(name) => setRow({ ...row, name })} />
        <Typed label="Address" mono value={row.address} onChange={(address) => setRow({ ...row, address })} />
        <Chosen
          label="Type"
          value={row.type}
          options={["uint16", "int16", "uint32", "int32", "float32", "uint64", "int64", "float64"].map((t) => ({
            value: t,
            title: t,
          }))}
          onChange={(type) => setRow({ ...row, type })}
        />
        <Typed
          label="Scale"
          mono
          value={row.scale}
          placeholder="÷ 10"
          onChange={(scale) => setRow({ ...row, scale })}
        />
        <Typed label="In" value={row.unit} placeholder="kW" onChange={(unit) => setRow({ ...row, unit })} />
        <button type="submit" className="button">
          Add
        </button>
      </form>
    </div>
  );
}
