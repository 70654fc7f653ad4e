import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { post, problemOf, useEdit, useSheets, useSite } from "../api/client";
import { deviceOf } from "../api/site";
import type { PlaceRequest, PlaceTarget, Problem, SheetCellsRequest, SheetsView, SheetView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { AccessEntry } from "../shared/AccessEntry";
import { count, whole } from "../shared/numbers";
import { attempt, say } from "../shared/toast";
import { Empty, Field, ProblemNotice } from "../shared/ui";
import { titles } from "./Grid";
import { StandingCard } from "./StandingCard";
import { Structures } from "./Structures";

/** Datasheets and structures: what is reused, where it is placed, and who has departed from it. */
export function DatasheetsPage() {
  const params = useParams({ strict: false });
  const navigate = useNavigate();
  const { data } = useSheets();
  if (!data) return <p className="soft p-8">Reading the datasheets…</p>;
  const chosen =
    data.datasheets.find((d) => d.id === params.sheet) ??
    (params.sheet === "structures" ? undefined : data.datasheets[0]);
  const item = (d: SheetView) => (
    <Link
      key={d.id}
      to="/points/datasheets/$sheet"
      params={{ sheet: d.id }}
      className="block rounded px-3 py-[5px]"
      style={chosen?.id === d.id ? { background: "var(--tide-wash)", fontWeight: 700 } : undefined}
    >
      <span className="block truncate">{d.name}</span>
      <span className="small soft block truncate font-normal">
        {count(d.rows.length, "point")}
        {placedOn(data, d.id)}
      </span>
    </Link>
  );
  const own = data.datasheets.filter((d) => !d.shipped);
  return (
    <div className="flex min-w-0 flex-1">
      <nav className="w-[230px] flex-none overflow-y-auto border-r border-rule bg-sheet p-2" aria-label="Datasheets">
        <Link to="/points" className="button tight mb-2">
          Back to the maps
        </Link>
        <h2 className="h3 px-3 pt-1">Of this site</h2>
        {own.map(item)}
        {own.length === 0 && (
          <p className="small soft px-3">None yet: keep a map as one, or place one of those below.</p>
        )}
        <Keep onKept={() => void navigate({ to: "/points/datasheets" })} />
        <h3 className="px-3 pt-3">Structures</h3>
        <Link
          to="/points/datasheets/$sheet"
          params={{ sheet: "structures" }}
          className="block rounded px-3 py-[5px]"
          style={params.sheet === "structures" ? { background: "var(--tide-wash)", fontWeight: 700 } : undefined}
        >
          {data.structures.length ? count(data.structures.length, "structure") : "Make the first"}
        </Link>
        <h3 className="px-3 pt-3">Shipped with Ferry</h3>
        {data.datasheets.filter((d) => d.shipped).map(item)}
      </nav>
      {params.sheet === "structures" ? (
        <Structures data={data} />
      ) : chosen ? (
        <Sheet key={chosen.id} data={data} sheet={chosen} />
      ) : (
        <Empty title="No datasheet">Keep the map of a device as one.</Empty>
      )}
    </div>
  );
}

const placedOn = (data: SheetsView, id: string) => {
  const n = data.standings.filter((s) => s.placement.datasheet === id).length;
  return n ? ` · on ${count(n, "device")}` : "";
};

/** Makes a datasheet of a device's map. */
function Keep({ onKept }: { onKept: () => void }) {
  const { data: site } = useSite();
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [device, setDevice] = useState("");
  const [name, setName] = useState("");
  const [prefix, setPrefix] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const keep = async () => {
    try {
      await post("/api/datasheets/keep", { device, name, prefix });
      await client.invalidateQueries({ queryKey: ["sheets"] });
      await client.invalidateQueries({ queryKey: ["site"] });
      say(`The map is kept as the datasheet ${name}.`);
      setOpen(false);
      onKept();
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  if (!open)
    return (
      <button type="button" className="button tight mx-3 mt-1" onClick={() => setOpen(true)}>
        Keep a map as one…
      </button>
    );
  return (
    <div className="card m-2 p-2">
      <select
        className="input mb-1"
        aria-label="Map of"
        value={device}
        onChange={(e) => {
          setDevice(e.target.value);
          setName(deviceOf(site, e.target.value)?.model ?? "");
        }}
      >
        <option value="">map of…</option>
        {site?.devices
          .filter((d) => d.pointCount > 0)
          .map((d) => (
            <option key={d.id} value={d.id} title={d.name}>
              {shortened(d.name, 30)}
            </option>
          ))}
      </select>
      <input
        className="input mb-1"
        aria-label="Name of the datasheet"
        placeholder="name of the model"
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <input
        className="input mb-1"
        aria-label="Prefix to leave out"
        placeholder="prefix to leave out"
        value={prefix}
        onChange={(e) => setPrefix(e.target.value)}
      />
      {problem && <ProblemNotice problem={problem} />}
      <div className="flex gap-1">
        <button
          type="button"
          className="button tight main"
          disabled={!device || !name.trim()}
          onClick={() => void keep()}
        >
          Keep it
        </button>
        <button type="button" className="button tight" onClick={() => setOpen(false)}>
          Close
        </button>
      </div>
    </div>
  );
}

const shownColumns = [
  "name",
  "address",
  "type",
  "order",
  "scale",
  "unit",
  "pace",
  "access",
  "names",
  "missing",
  "low",
  "high",
  "change",
  "remark",
];

/** One datasheet: its points, to be changed in place, and where it is placed. */
function Sheet({ data, sheet }: { data: SheetsView; sheet: SheetView }) {
  const client = useQueryClient();
  const edit = useEdit();
  const [typing, setTyping] = useState<{ point: string; column: string; text: string; problem?: Problem }>();
  const standings = data.standings.filter((s) => s.placement.datasheet === sheet.id);
  const send = async (request: Partial<SheetCellsRequest>) => {
    await post(`/api/datasheets/${sheet.id}/cells`, {
      base: data.versions[sheet.id] ?? 0,
      cells: [],
      remove: [],
      add: [],
      ...request,
    });
    await client.invalidateQueries({ queryKey: ["sheets"] });
    await client.invalidateQueries({ queryKey: ["site"] });
  };
  const commit = async () => {
    if (!typing) return;
    const row = sheet.rows.find((r) => r.id === typing.point);
    if (row?.cells[data.columns.indexOf(typing.column)] === typing.text) return setTyping(undefined);
    try {
      await send({ cells: [{ point: typing.point, column: typing.column, text: typing.text }] });
      setTyping(undefined);
    } catch (error) {
      setTyping({ ...typing, problem: problemOf(error) });
    }
  };
  return (
    <>
      <div className="flex min-w-0 flex-1 flex-col">
        <header className="flex-none border-b border-rule bg-sheet px-4 py-2">
          <div className="flex items-center gap-3">
            <h2>{sheet.name}</h2>
            {sheet.shipped && <span className="chip note">shipped; place it to make it the site’s own</span>}
            {!sheet.shipped && (
              <button
                type="button"
                className="button tight danger ml-auto"
                onClick={() =>
                  void attempt(() =>
                    edit(`removed the datasheet ${sheet.name}`, [
                      { kind: "datasheet", id: sheet.id, base: data.versions[sheet.id] ?? 0, after: null },
                    ]).then(() => client.invalidateQueries({ queryKey: ["sheets"] })),
                  )
                }
              >
                Remove
              </button>
            )}
          </div>
          <p className="small soft">
            {sheet.remark} {count(sheet.rows.filter((r) => r.useful).length, "point")} of {sheet.rows.length} marked as
            useful. What is changed here changes on every device that follows.
          </p>
        </header>
        {/* What scrolls has to be reached by keyboard. */}
        {/* oxlint-disable-next-line jsx-a11y/no-noninteractive-tabindex */}
        <div className="min-h-0 flex-1 overflow-auto" role="region" aria-label="Points of the datasheet" tabIndex={0}>
          <table className="rows" data-testid="sheet">
            <thead className="sticky top-0 bg-band">
              <tr>
                <th>Useful</th>
                {shownColumns.map((c) => (
                  <th key={c} className="whitespace-nowrap">
                    {titles[c] ?? c}
                  </th>
                ))}
                <th>
                  <span className="sr-only">What to do</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {sheet.rows.map((r) => (
                <tr key={r.id} data-sheet-point={r.id}>
                  <td>
                    <input
                      type="checkbox"
                      aria-label={`${r.cells[0]} is useful`}
                      checked={r.useful}
                      disabled={sheet.shipped}
                      onChange={(e) =>
                        void attempt(() =>
                          send({ cells: [{ point: r.id, column: "useful", text: e.target.checked ? "yes" : "no" }] }),
                        )
                      }
                    />
                  </td>
                  {shownColumns.map((c) => {
                    const text = r.cells[data.columns.indexOf(c)] ?? "";
                    const here = typing?.point === r.id && typing.column === c;
                    return (
                      <td
                        key={c}
                        data-col={c}
                        className={c === "name" ? "font-semibold" : "mono"}
                        onClick={() => !sheet.shipped && !here && setTyping({ point: r.id, column: c, text })}
                      >
                        {here ? (
                          <>
                            <input
                              className="input mono !min-h-0 min-w-[90px] !py-0"
                              autoFocus
                              aria-label={titles[c] ?? c}
                              aria-invalid={!!typing.problem}
                              value={typing.text}
                              onChange={(e) => setTyping({ point: r.id, column: c, text: e.target.value })}
                              onBlur={() => {
                                if (!typing.problem) void commit();
                              }}
                              onKeyDown={(e) => {
                                if (e.key === "Enter") void commit();
                                if (e.key === "Escape") {
                                  e.stopPropagation();
                                  setTyping(undefined);
                                }
                              }}
                            />
                            {typing.problem && (
                              <div className="small text-fault font-sans">{typing.problem.sentence}</div>
                            )}
                          </>
                        ) : (
                          <span className="whitespace-nowrap">{text}</span>
                        )}
                      </td>
                    );
                  })}
                  <td>
                    {!sheet.shipped && (
                      <button
                        type="button"
                        className="small soft underline"
                        aria-label={`Remove ${r.cells[0]}`}
                        onClick={() => void attempt(() => send({ remove: [r.id] }))}
                      >
                        remove
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {!sheet.shipped && (
            <button
              type="button"
              className="button tight m-3"
              onClick={() => void attempt(() => send({ add: [`Point ${sheet.rows.length + 1}`] }))}
            >
              Add a point
            </button>
          )}
        </div>
      </div>
      <aside className="panel" aria-label="Placements">
        <Place data={data} sheet={sheet} />
        <SheetAccess sheet={sheet} onChange={send} />
        <h3 className="mt-5 mb-1">Where it is placed</h3>
        {standings.length === 0 && <p className="small soft">Nowhere yet.</p>}
        {standings.map((s) => (
          <StandingCard key={s.placement.id} standing={s} />
        ))}
      </aside>
    </>
  );
}

/** What must be switched on in devices of this model, and for how long they think: what the manual says. */
function SheetAccess({
  sheet,
  onChange,
}: {
  sheet: SheetView;
  onChange: (request: Partial<SheetCellsRequest>) => Promise<unknown>;
}) {
  const { data: site } = useSite();
  if (!site) return null;
  return (
    <section className="mt-5" aria-label="Access of the model">
      <h3 className="mb-1">Before it answers</h3>
      {sheet.access.length === 0 && <p className="small soft">Nothing is listed that has to be switched on.</p>}
      <ul>
        {sheet.access.map((line) => (
          <li key={line.id} className="py-1">
            {line.text}
            <span className="small soft block">
              {site.accessKinds.find((k) => k.kind === line.kind)?.title}
              {!sheet.shipped && (
                <>
                  {" "}
                  ·{" "}
                  <button
                    type="button"
                    className="underline"
                    onClick={() =>
                      void attempt(() => onChange({ access: sheet.access.filter((l) => l.id !== line.id) }))
                    }
                  >
                    take off
                  </button>
                </>
              )}
            </span>
          </li>
        ))}
      </ul>
      {sheet.shipped ? (
        <p className="small soft">{sheet.thinkMs ? `Thinks for ${sheet.thinkMs}\u2009ms, says the manual.` : ""}</p>
      ) : (
        <>
          <AccessEntry site={site} onAdd={(line) => onChange({ access: [...sheet.access, line] })} />
          <Field
            label="Thinks for"
            unit="ms"
            mono
            value={sheet.thinkMs ? String(sheet.thinkMs) : ""}
            placeholder="not stated"
            onCommit={(text) => onChange({ thinkMs: whole(text) })}
          />
        </>
      )}
    </section>
  );
}

/** Places a datasheet on one device or twenty, in one step. */
function Place({ data, sheet }: { data: SheetsView; sheet: SheetView }) {
  const { data: site } = useSite();
  const client = useQueryClient();
  const [on, setOn] = useState<Record<string, PlaceTarget>>({});
  const [all, setAll] = useState(false);
  const [problem, setProblem] = useState<Problem>();
  const devices = site?.devices.filter((d) => d.ports.some((p) => p.protocol) || d.pointCount > 0 || d.map) ?? [];
  const list = Object.values(on);
  const set = (id: string, change: Partial<PlaceTarget>) =>
    setOn({ ...on, [id]: { device: id, prefix: on[id]?.prefix ?? "", shift: on[id]?.shift ?? 0, ...change } });
  const place = async () => {
    try {
      const request: PlaceRequest = { datasheet: sheet.id, all, on: list };
      await post("/api/datasheets/place", request);
      setOn({});
      setProblem(undefined);
      await client.invalidateQueries();
      say(`${sheet.name} placed on ${count(list.length, "device")}. Ctrl Z takes it back.`);
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const has = new Set(data.standings.filter((s) => s.placement.datasheet === sheet.id).map((s) => s.device));
  return (
    <section aria-label="Place it">
      <h3 className="mb-1">Place it on devices</h3>
      <div className="max-h-[260px] overflow-auto rounded border border-rule">
        {devices.map((d) => (
          <div key={d.id} className="border-b border-rule px-2 py-1">
            <label className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={!!on[d.id]}
                onChange={(e) => {
                  if (e.target.checked) set(d.id, {});
                  else {
                    const { [d.id]: _gone, ...rest } = on;
                    setOn(rest);
                  }
                }}
              />
              <span className="truncate">{d.name}</span>
              <span className="small soft ml-auto whitespace-nowrap">
                {has.has(d.id) ? "has it" : count(d.pointCount, "point")}
              </span>
            </label>
            {on[d.id] && (
              <div className="mt-1 flex gap-2 pl-6">
                <input
                  className="input mono !py-0"
                  aria-label={`Prefix on ${d.name}`}
                  placeholder="prefix"
                  value={on[d.id]?.prefix}
                  onChange={(e) => set(d.id, { prefix: e.target.value })}
                />
                <input
                  type="number"
                  className="input mono !w-[90px] !py-0"
                  aria-label={`Shift on ${d.name}`}
                  title="added to every address"
                  value={on[d.id]?.shift}
                  onChange={(e) => set(d.id, { shift: Number(e.target.value) })}
                />
              </div>
            )}
          </div>
        ))}
      </div>
      <label className="small mt-2 flex items-center gap-2">
        <input type="checkbox" checked={all} onChange={(e) => setAll(e.target.checked)} /> every point, not only the
        useful ones
      </label>
      {problem && <ProblemNotice problem={problem} />}
      <button type="button" className="button main mt-2" disabled={list.length === 0} onClick={() => void place()}>
        Place on {count(list.length, "device")}
      </button>
    </section>
  );
}
