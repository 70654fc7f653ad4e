import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { newId, post, problemOf, useEdit, useSite } from "../api/client";
import type {
  Dim,
  Member,
  PlaceRequest,
  Problem,
  SheetsView,
  Structure,
  StructureRequest,
  StructureView,
} from "../api/types.gen";
import { attempt, say } from "../shared/toast";
import { Empty, ProblemNotice } from "../shared/ui";
import { count } from "../shared/numbers";
import { dimsOf, dimsText } from "./dims";
import { StandingCard } from "./StandingCard";

const simple = [
  "bool",
  "bits",
  "int8",
  "uint8",
  "int16",
  "uint16",
  "int32",
  "uint32",
  "int64",
  "uint64",
  "float32",
  "float64",
  "enum",
  "flags",
  "bcd16",
  "bcd32",
  "text",
  "unix",
  "time",
  "date",
  "dt",
  "bytes",
];
const withLength = new Set(["bits", "text", "bytes"]);

/** The structures of the site, with where every element lies by each layout rule. */
export function Structures({ data }: { data: SheetsView }) {
  const client = useQueryClient();
  const edit = useEdit();
  const [chosen, setChosen] = useState(data.structures[0]?.id);
  const [draft, setDraft] = useState<Structure>();
  const [problem, setProblem] = useState<Problem>();
  const shown = data.structures.find((t) => t.id === chosen);
  const own = draft ?? shown;
  const begin = () => {
    setDraft({
      id: newId(),
      name: `Structure ${data.structures.length + 1}`,
      members: [{ name: "First", type: "float32" }],
    });
    setProblem(undefined);
  };
  const save = async () => {
    if (!draft) return;
    try {
      await post("/api/structures", {
        base: data.versions[draft.id] ?? 0,
        structure: draft,
      } satisfies StructureRequest);
      await client.invalidateQueries({ queryKey: ["sheets"] });
      setChosen(draft.id);
      setDraft(undefined);
      setProblem(undefined);
      say(`${draft.name} is kept; the points that follow it have moved with it.`);
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const setMember = (i: number, change: Partial<Member>) =>
    draft && setDraft({ ...draft, members: draft.members.map((m, j) => (j === i ? { ...m, ...change } : m)) });
  return (
    <>
      <div className="min-w-0 flex-1 overflow-auto p-4">
        <div className="mb-3 flex flex-wrap items-center gap-2">
          {data.structures.map((t) => (
            <button
              key={t.id}
              type="button"
              className="button tight"
              aria-pressed={t.id === own?.id}
              style={t.id === own?.id ? { background: "var(--tide-wash)" } : undefined}
              onClick={() => {
                setChosen(t.id);
                setDraft(undefined);
                setProblem(undefined);
              }}
            >
              {t.name}
            </button>
          ))}
          <button type="button" className="button tight" onClick={begin}>
            New structure
          </button>
        </div>
        {!own && (
          <Empty title="No structure yet">
            A structure is the type of structured points: members, nested structures, arrays, reserve. Ferry works out
            where each member lies.{" "}
            <div className="mt-3">
              <button type="button" className="button main" onClick={begin}>
                Make the first
              </button>
            </div>
          </Empty>
        )}
        {own && !draft && (
          <div className="mb-3 flex items-center gap-2">
            <h2>{own.name}</h2>
            <button
              type="button"
              className="button tight"
              onClick={() =>
                setDraft(structuredClone({ id: own.id, name: own.name, remark: own.remark, members: own.members }))
              }
            >
              Change it
            </button>
            <button
              type="button"
              className="button tight danger"
              onClick={() =>
                void attempt(() =>
                  edit(`removed the structure ${own.name}`, [
                    { kind: "structure", id: own.id, base: data.versions[own.id] ?? 0, after: null },
                  ]).then(() => client.invalidateQueries({ queryKey: ["sheets"] })),
                )
              }
            >
              Remove
            </button>
          </div>
        )}
        {draft && (
          <section className="card mb-4 p-3" aria-label="The structure">
            <label className="mb-2 flex items-center gap-2">
              <span className="small soft">Name</span>
              <input
                className="input !w-[240px]"
                aria-label="Name of the structure"
                value={draft.name}
                onChange={(e) => setDraft({ ...draft, name: e.target.value })}
              />
            </label>
            <table className="rows small">
              <thead>
                <tr>
                  <th>Member</th>
                  <th>Type</th>
                  <th>Length</th>
                  <th>Array of</th>
                  <th>From</th>
                  <th>And of</th>
                  <th>Order</th>
                  <th>Unit</th>
                  <th>Reserve</th>
                  <th>
                    <span className="sr-only">What to do</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {draft.members.map((m, i) => (
                  <tr key={i}>
                    <td>
                      <input
                        className="input !py-0"
                        aria-label={`Member ${i + 1}`}
                        value={m.name}
                        onChange={(e) => setMember(i, { name: e.target.value })}
                      />
                    </td>
                    <td>
                      <select
                        className="input !py-0"
                        aria-label={`Type of member ${i + 1}`}
                        value={m.structure ? `/${m.structure}` : m.type}
                        onChange={(e) =>
                          setMember(
                            i,
                            e.target.value.startsWith("/")
                              ? { structure: e.target.value.slice(1), type: undefined, length: undefined }
                              : {
                                  type: e.target.value,
                                  structure: undefined,
                                  length: withLength.has(e.target.value) ? 8 : undefined,
                                },
                          )
                        }
                      >
                        {simple.map((t) => (
                          <option key={t}>{t}</option>
                        ))}
                        {data.structures
                          .filter((t) => t.id !== draft.id)
                          .map((t) => (
                            <option key={t.id} value={`/${t.id}`}>
                              {t.name}
                            </option>
                          ))}
                      </select>
                    </td>
                    <td>
                      {withLength.has(m.type ?? "") && (
                        <input
                          type="number"
                          className="input mono !w-[70px] !py-0"
                          aria-label={`Length of member ${i + 1}`}
                          value={m.length ?? 0}
                          onChange={(e) => setMember(i, { length: Number(e.target.value) })}
                        />
                      )}
                    </td>
                    <td>
                      <input
                        type="number"
                        className="input mono !w-[80px] !py-0"
                        aria-label={`Elements of member ${i + 1}`}
                        value={m.count ?? 0}
                        onChange={(e) =>
                          setMember(i, { count: Number(e.target.value) || undefined, first: m.first ?? 1 })
                        }
                      />
                    </td>
                    <td>
                      {!!m.count && (
                        <input
                          type="number"
                          className="input mono !w-[70px] !py-0"
                          aria-label={`First index of member ${i + 1}`}
                          value={m.first ?? 0}
                          onChange={(e) => setMember(i, { first: Number(e.target.value) })}
                        />
                      )}
                    </td>
                    <td>
                      {!!m.count && (
                        <Dimensions
                          of={i + 1}
                          dims={m.more ?? []}
                          set={(more) => setMember(i, { more: more.length ? more : undefined })}
                        />
                      )}
                    </td>
                    <td>
                      <input
                        className="input mono !w-[84px] !py-0"
                        aria-label={`Order of member ${i + 1}`}
                        value={m.order ?? ""}
                        onChange={(e) => setMember(i, { order: e.target.value.toUpperCase() || undefined })}
                      />
                    </td>
                    <td>
                      <input
                        className="input !w-[70px] !py-0"
                        aria-label={`Unit of member ${i + 1}`}
                        value={m.unit ?? ""}
                        onChange={(e) => setMember(i, { unit: e.target.value || undefined })}
                      />
                    </td>
                    <td>
                      <input
                        type="checkbox"
                        aria-label={`Member ${i + 1} is reserve`}
                        checked={!!m.reserve}
                        onChange={(e) => setMember(i, { reserve: e.target.checked || undefined })}
                      />
                    </td>
                    <td>
                      <button
                        type="button"
                        className="small soft underline"
                        onClick={() => setDraft({ ...draft, members: draft.members.filter((_, j) => j !== i) })}
                      >
                        remove
                      </button>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {problem && <ProblemNotice problem={problem} />}
            <div className="mt-2 flex gap-2">
              <button
                type="button"
                className="button tight"
                onClick={() =>
                  setDraft({
                    ...draft,
                    members: [...draft.members, { name: `Member${draft.members.length + 1}`, type: "uint16" }],
                  })
                }
              >
                Add a member
              </button>
              <button type="button" className="button tight main" onClick={() => void save()}>
                Keep the structure
              </button>
              <button type="button" className="button tight" onClick={() => setDraft(undefined)}>
                Give it up
              </button>
            </div>
          </section>
        )}
        {!draft && shown && <Layouts data={data} structure={shown} />}
      </div>
      {!draft && shown && (
        <aside className="panel" aria-label="Placements">
          <PlaceStructure key={shown.id} data={data} structure={shown} />
          <h3 className="mt-5 mb-1">Where it is placed</h3>
          {data.standings
            .filter((s) => s.placement.structure === shown.id)
            .map((s) => (
              <StandingCard key={s.placement.id} standing={s} />
            ))}
        </aside>
      )}
    </>
  );
}

/** Where every element lies, one column for each rule. */
function Layouts({ data, structure }: { data: SheetsView; structure: StructureView }) {
  const paths = structure.laid[0]?.places ?? [];
  return (
    <table className="rows" data-testid="layouts">
      <thead>
        <tr>
          <th rowSpan={2}>Element</th>
          {structure.laid.map((l) => (
            <th key={l.rule} colSpan={2}>
              {data.rules.find((r) => r.rule === l.rule)?.title}, {l.bytes} bytes
            </th>
          ))}
        </tr>
        <tr>{structure.laid.map((l) => [<th key={l.rule + "b"}>byte</th>, <th key={l.rule + "r"}>register</th>])}</tr>
      </thead>
      <tbody>
        {paths.map((p, i) => (
          <tr key={p.path}>
            <td className="font-semibold">{p.path}</td>
            {structure.laid.map((l) => {
              const at = l.places[i];
              return [
                <td key={l.rule + "b"} className="mono">
                  {at && (at.bit < 0 ? at.byte : `${at.byte}.${at.bit}`)}
                </td>,
                <td key={l.rule + "r"} className="mono">
                  {at?.register}
                </td>,
              ];
            })}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** The dimensions of an array behind its first. What is no list of them stays as it was typed, and is not kept. */
function Dimensions({ of, dims, set }: { of: number; dims: Dim[]; set: (dims: Dim[]) => void }) {
  const [typed, setTyped] = useState<string>();
  const wrong = typed !== undefined && !dimsOf(typed);
  return (
    <input
      className="input mono !w-[96px] !py-0"
      aria-label={`Further dimensions of member ${of}`}
      placeholder="1..4, 0..2"
      title="Further dimensions of the array: first and last index of each"
      aria-invalid={wrong}
      value={typed ?? dimsText(dims)}
      onChange={(e) => {
        setTyped(e.target.value);
        set(dimsOf(e.target.value) ?? [{ first: 0, count: 0 }]);
      }}
      onBlur={() => !wrong && setTyped(undefined)}
    />
  );
}

function PlaceStructure({ data, structure }: { data: SheetsView; structure: StructureView }) {
  const { data: site } = useSite();
  const client = useQueryClient();
  const [device, setDevice] = useState("");
  const [chosenMap, setMap] = useState<string>();
  const [typed, setStart] = useState<string>();
  const [chosen, setRule] = useState<SheetsView["rules"][number]["rule"]>();
  const [prefix, setPrefix] = useState(`${structure.name}.`);
  const [pace, setPace] = useState("1 s");
  const [problem, setProblem] = useState<Problem>();
  const on = site?.devices.find((d) => d.id === device);
  const maps = on?.maps ?? [];
  const map = maps.length > 1 ? (maps.find((name) => name === chosenMap) ?? maps[0]) : on?.map;
  const protocol = site?.protocols.find((p) => p.name === map || (!map && p.usual && p.medium === "ethernet"));
  const start = typed ?? protocol?.example ?? "";
  // A memory of bytes is laid out word-aligned unless somebody says otherwise.
  const rule = chosen ?? (protocol?.areas[0]?.unitBits === 8 ? "words" : "registers");
  const place = async () => {
    try {
      const request: PlaceRequest = {
        structure: structure.id,
        all: true,
        on: [{ device, map: maps.length > 1 ? map : undefined, prefix, shift: 0, start, rule, pace }],
      };
      await post("/api/datasheets/place", request);
      setProblem(undefined);
      await client.invalidateQueries();
      say(
        `${structure.name} placed at ${start}: ${count(structure.laid[0]?.places.length ?? 0, "point")}. Ctrl Z takes it back.`,
      );
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const line = "mb-1 grid grid-cols-[96px_1fr] items-center gap-2";
  return (
    <section aria-label="Place it">
      <h3 className="mb-1">Place it in a map</h3>
      <label className={line}>
        <span className="small soft">Device</span>
        <select className="input" aria-label="Device" value={device} onChange={(e) => setDevice(e.target.value)}>
          <option value="">choose…</option>
          {site?.devices
            .filter((d) => d.ports.some((p) => p.protocol) || d.map)
            .map((d) => (
              <option key={d.id} value={d.id}>
                {d.name}
              </option>
            ))}
        </select>
      </label>
      {maps.length > 1 && (
        <label className={line}>
          <span className="small soft">Map</span>
          <select className="input" value={map} onChange={(e) => setMap(e.target.value)}>
            {maps.map((name) => (
              <option key={name} value={name}>
                {site?.protocols.find((p) => p.name === name)?.title ?? name}
              </option>
            ))}
          </select>
        </label>
      )}
      <label className={line}>
        <span className="small soft">Begins at</span>
        <input className="input mono" aria-label="Begins at" value={start} onChange={(e) => setStart(e.target.value)} />
      </label>
      <label className={line}>
        <span className="small soft">Layout</span>
        <select className="input" value={rule} onChange={(e) => setRule(e.target.value as typeof rule)}>
          {data.rules.map((r) => (
            <option key={r.rule} value={r.rule}>
              {r.title}
            </option>
          ))}
        </select>
      </label>
      <label className={line}>
        <span className="small soft">Prefix</span>
        <input className="input mono" value={prefix} onChange={(e) => setPrefix(e.target.value)} />
      </label>
      <label className={line}>
        <span className="small soft">Pace</span>
        <input className="input mono" value={pace} onChange={(e) => setPace(e.target.value)} />
      </label>
      {problem && <ProblemNotice problem={problem} />}
      <button type="button" className="button main mt-1" disabled={!device} onClick={() => void place()}>
        Place it
      </button>
    </section>
  );
}
