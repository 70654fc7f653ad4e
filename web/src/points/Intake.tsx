import { useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useCallback, useEffect, useRef, useState } from "react";
import { post, problemOf, mapPath } from "../api/client";
import type { HeldView, IntakeAnswer, IntakeRequest, PointsView, Problem, Reading, Row } from "../api/types.gen";
import { say } from "../shared/toast";
import { Dialog, ProblemNotice } from "../shared/ui";
import { count } from "../shared/numbers";
import { titles } from "./Grid";

/** What a table comes from: rows that were pasted, or a file as it lies on the disk. */
export interface Source {
  text?: string;
  file?: string; // base64
  name?: string;
}

const because: Record<string, string> = {
  heading: "by its heading",
  content: "by what it holds",
  memory: "as last time",
  choice: "as chosen",
};

/** Brings a table in: paste or file, how it is understood, a preview, the bad rows to be corrected in place. */
export function Intake({
  points,
  name,
  source: given,
  onClose,
}: {
  points: PointsView;
  name: string;
  source: Source;
  onClose: () => void;
}) {
  const { device, map } = points;
  const client = useQueryClient();
  const [source, setSource] = useState(given);
  const [answer, setAnswer] = useState<IntakeAnswer>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const [bad, setBad] = useState<Row[]>([]);
  const [replace, setReplace] = useState(false);
  const [begin, setBegin] = useState("");

  const ask = useCallback(
    async (request: IntakeRequest): Promise<IntakeAnswer | undefined> => {
      setBusy(true);
      setProblem(undefined);
      try {
        const got = await post<IntakeAnswer>(mapPath({ device, map }, "intake"), request);
        setAnswer(got);
        setBad(got.rejectedRows);
        return got;
      } catch (error) {
        setProblem(problemOf(error));
        return undefined;
      } finally {
        setBusy(false);
      }
    },
    [device, map],
  );
  const look = useCallback(
    async (from: Source) => {
      setSource(from);
      if (from.file || from.text?.trim()) await ask({ text: from.text, file: from.file, commit: false });
    },
    [ask],
  );
  useEffect(() => {
    if (given.text || given.file) void look(given);
  }, [given, look]);

  const [corrected, setCorrected] = useState<Row[]>();
  const again = (more: Partial<IntakeRequest>): IntakeRequest =>
    corrected
      ? {
          rows: corrected,
          headings: answer?.headings,
          columns: answer?.columns,
          reading: answer?.reading,
          commit: false,
          ...more,
        }
      : {
          text: source.text,
          file: source.file,
          sheet: answer?.sheet,
          begin: begin.trim() || undefined,
          columns: answer?.columns,
          reading: answer?.reading,
          commit: false,
          ...more,
        };
  const askDevice = async () => {
    setBusy(true);
    setProblem(undefined);
    try {
      const held = await post<HeldView>(mapPath({ device, map }, "held"), {});
      if (held.more) say(`The device has more than ${held.count} places: the first of them are shown.`);
      await look({ text: held.text, name: name });
    } catch (error) {
      setProblem(problemOf(error));
    } finally {
      setBusy(false);
    }
  };
  const bringIn = async () => {
    const got = await ask(again({ commit: true, replace: replace && !corrected }));
    if (!got) return;
    await client.invalidateQueries({ queryKey: ["points", device] });
    await client.invalidateQueries({ queryKey: ["site"] });
    say(`${count(got.added, "point")} added and ${got.changed} changed in the map of ${name}.`);
    if (got.rejectedRows.length === 0) return onClose();
    // What is left is corrected on its own.
    setCorrected(got.rejectedRows);
    await ask({
      rows: got.rejectedRows,
      headings: got.headings,
      columns: got.columns,
      reading: got.reading,
      commit: false,
    });
  };
  const setCell = (line: number, col: number, value: string) =>
    setBad(
      bad.map((r) =>
        r.line === line
          ? {
              ...r,
              cells: Array.from({ length: Math.max(r.cells.length, col + 1) }, (_, i) =>
                i === col ? value : (r.cells[i] ?? ""),
              ),
            }
          : r,
      ),
    );
  const check = async () => {
    if (!corrected) {
      // The good rows come in first; the corrected ones are looked at on their own.
      const fixed = bad;
      const got = await ask(again({ commit: true }));
      if (!got) return;
      await client.invalidateQueries({ queryKey: ["points", device] });
      setCorrected(fixed);
      await ask({ rows: fixed, headings: got.headings, columns: got.columns, reading: got.reading, commit: false });
      return;
    }
    setCorrected(bad);
    await ask({
      rows: bad,
      headings: answer?.headings,
      columns: answer?.columns,
      reading: answer?.reading,
      commit: false,
    });
  };
  const setColumn = (i: number, column: string) => {
    if (!answer) return;
    void ask(again({ columns: answer.columns.map((c, j) => (j === i ? column : c === column && column ? "" : c)) }));
  };
  // What a person says of the reading is no longer found out, nor asked.
  const setReading = (change: Partial<Reading>, key?: string) => {
    if (!answer) return;
    const heads = change.headerRow !== undefined;
    const settled = key ? [...(answer.reading.settled ?? []), key] : answer.reading.settled;
    void ask(
      again({ reading: { ...answer.reading, ...change, settled }, columns: heads ? undefined : answer.columns }),
    );
  };
  const open = answer?.questions ?? [];
  const hasBits = answer?.columns.includes("bit");
  const declared = !!answer?.format.startsWith("iec");
  return (
    <Dialog open onClose={onClose} title={`Bring rows into the map of ${name}`} wide>
      {!answer && (
        <>
          <p className="soft mb-2">
            Paste rows copied from a spreadsheet, with or without their headings. Commas, semicolons, tabs and upright
            strokes between the cells are all understood. Declarations of IEC 61131-3 can be pasted as text; workbooks,
            JSON and IEC 61131-10 documents come in as files
            {points.described && `, and so do ${points.described}`}.
          </p>
          <textarea
            className="input mono"
            rows={10}
            aria-label="Rows"
            autoFocus
            value={source.text ?? ""}
            onChange={(e) => setSource({ text: e.target.value })}
            onPaste={(e) => {
              e.preventDefault();
              void look({ text: e.clipboardData.getData("text/plain") });
            }}
            placeholder={`Name\tAddress\tType\tUnit\nOxygen\t${points.example}\tfloat32\tmg/L`}
          />
          {points.listed && (
            <button type="button" className="button mt-2" disabled={busy} onClick={() => void askDevice()}>
              Ask the device for its {points.listed}
            </button>
          )}
        </>
      )}
      {problem && <ProblemNotice problem={problem} />}
      {answer && (
        <>
          <p className="mb-2" data-testid="intake-summary">
            <b>
              {count(answer.total, "row")}
              {source.name ? ` of ${source.name}` : ""}:
            </b>{" "}
            {answer.added} new, {answer.changed} changed, {answer.same} as they are,{" "}
            {answer.rejected.length ? (
              <b className="text-fault">{count(bad.length, "row")} cannot come in yet</b>
            ) : (
              "none with a problem"
            )}
            .
          </p>
          {answer.findings
            .filter((f) => f.code === "offsets-differ")
            .map((f) => (
              <div key={f.code} className="notice doubt mb-3" data-testid="displaced">
                <b>{f.title}.</b> {f.sentence} {f.remedy}
                <ul className="small mono mt-1">
                  {f.evidence.map((line) => (
                    <li key={line}>{line}</li>
                  ))}
                </ul>
              </div>
            ))}
          {answer.faults.length > 0 && (
            <div className="notice doubt mb-3" data-testid="faults">
              <b>{count(answer.faults.length, "place")} of the declarations could not be read. The rest comes in.</b>
              <ul className="small mt-1 max-h-[110px] overflow-auto">
                {answer.faults.map((f, i) => (
                  <li key={`${i}-${f.line}`}>
                    <span className="mono soft">
                      line {f.line}
                      {f.column && `, ${f.column}`}
                    </span>{" "}
                    {f.reason}
                  </li>
                ))}
              </ul>
            </div>
          )}
          {declared && answer.unplaced.length > 0 && !corrected && (
            <form
              className="mb-3 flex flex-wrap items-center gap-2"
              data-testid="unplaced"
              onSubmit={(e) => {
                e.preventDefault();
                void ask(again({}));
              }}
            >
              <label className="flex items-center gap-2">
                <span>
                  {answer.unplaced.length === 1 ? (
                    <>
                      <b className="mono">{answer.unplaced[0]}</b> has no address. It begins at
                    </>
                  ) : (
                    <>
                      {answer.unplaced.length} variables have no address, from{" "}
                      <b className="mono">{answer.unplaced[0]}</b> on. They begin at
                    </>
                  )}
                </span>
                <input
                  className="input mono !w-[110px]"
                  aria-label="Where the declarations begin"
                  placeholder={points.example}
                  value={begin}
                  onChange={(e) => setBegin(e.target.value)}
                />
              </label>
              <button type="submit" className="button" disabled={busy}>
                Lay out
              </button>
            </form>
          )}
          {!corrected && !declared && (
            <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-1">
              {answer.sheets.length > 1 && (
                <label className="small flex items-center gap-1">
                  <span className="soft">Sheet</span>
                  <select
                    className="input !w-auto !py-0"
                    value={answer.sheet}
                    onChange={(e) => void ask({ file: source.file, sheet: e.target.value, commit: false })}
                  >
                    {answer.sheets.map((s) => (
                      <option key={s}>{s}</option>
                    ))}
                  </select>
                </label>
              )}
              <label className="small flex items-center gap-1">
                <span className="soft">Headings</span>
                <select
                  className="input !w-auto max-w-[260px] !py-0"
                  value={answer.reading.headerRow}
                  onChange={(e) => setReading({ headerRow: Number(e.target.value) })}
                >
                  <option value={-1}>none</option>
                  {answer.first.map((r) => (
                    <option key={r.line} value={r.line}>
                      row {r.line}: {r.cells.filter(Boolean).slice(0, 4).join(", ")}
                    </option>
                  ))}
                </select>
              </label>
              {points.areas.length > 1 && (
                <label className="small flex items-center gap-1">
                  <span className="soft">Bare numbers are in the</span>
                  <select
                    className="input !w-auto !py-0"
                    value={answer.reading.area}
                    onChange={(e) => setReading({ area: e.target.value }, "table")}
                  >
                    <option value="">{points.areas[0]?.title}, unless they say otherwise</option>
                    {points.areas.map((a) => (
                      <option key={a.key} value={a.key}>
                        {a.title}
                      </option>
                    ))}
                    {answer.reading.area && !points.areas.some((a) => a.key === answer.reading.area) && (
                      <option value={answer.reading.area}>{answer.reading.area}</option>
                    )}
                  </select>
                </label>
              )}
              {points.areas.length > 0 && (
                <>
                  <label className="small flex items-center gap-1">
                    <input
                      type="checkbox"
                      checked={answer.reading.fromOne}
                      onChange={(e) => setReading({ fromOne: e.target.checked }, "base")}
                    />{" "}
                    and count from 1
                  </label>
                  <label className="small flex items-center gap-1">
                    <input
                      type="checkbox"
                      checked={answer.reading.hex}
                      onChange={(e) => setReading({ hex: e.target.checked }, "hex")}
                    />{" "}
                    hexadecimal
                  </label>
                </>
              )}
              {hasBits && (
                <label className="small flex items-center gap-1">
                  <input
                    type="checkbox"
                    checked={answer.reading.bitFromOne}
                    onChange={(e) => setReading({ bitFromOne: e.target.checked })}
                  />{" "}
                  bits count from 1
                </label>
              )}
            </div>
          )}
          {!declared && (
            <div className="mb-3 flex flex-wrap gap-2" data-testid="recognised">
              {answer.columns.map((column, i) => (
                <label
                  key={`${i}-${answer.headings[i] ?? ""}`}
                  className="small flex items-center gap-1"
                  title={because[answer.bases[i] ?? ""] ?? "not recognised"}
                >
                  <span className="soft">{answer.headings[i] || `column ${i + 1}`}</span>
                  <select
                    className="input !w-auto !py-0"
                    aria-label={`What ${answer.headings[i] || `column ${i + 1}`} holds`}
                    value={column}
                    onChange={(e) => setColumn(i, e.target.value)}
                    style={column ? undefined : { color: "var(--ink2)" }}
                  >
                    <option value="">left out</option>
                    {points.tableColumns.map((c) => (
                      <option key={c} value={c}>
                        {titles[c] ?? c}
                      </option>
                    ))}
                  </select>
                  {answer.bases[i] === "content" && <span className="chip note">by content</span>}
                  {answer.bases[i] === "memory" && <span className="chip note">as last time</span>}
                </label>
              ))}
            </div>
          )}
          {open.length > 0 && (
            <div className="notice doubt mb-3" data-testid="questions">
              <b>The table leaves open how it is meant. Look in the manual:</b>
              {open.map((q) => (
                <fieldset key={q.key} className="mt-2" data-question={q.key}>
                  <legend className="mb-1">{q.asks}</legend>
                  <div className="flex flex-wrap gap-2">
                    {q.choices.map((c) => (
                      <button
                        key={c.title}
                        type="button"
                        className="button"
                        aria-label={`${c.title}: ${c.example}`}
                        disabled={busy}
                        onClick={() => void ask(again({ reading: c.reading }))}
                      >
                        <span className="text-left">
                          <b>{c.title}</b>
                          <span className="mono small block">{c.example}</span>
                        </span>
                      </button>
                    ))}
                    {answer.inBlock && q.key === "table" && (
                      <form
                        className="flex items-center gap-2"
                        onSubmit={(e) => {
                          e.preventDefault();
                          void ask(again({}));
                        }}
                      >
                        <input
                          className="input mono !w-[110px]"
                          aria-label="The block in which the offsets lie"
                          placeholder={points.areas.at(-1)?.key}
                          value={begin}
                          onChange={(e) => setBegin(e.target.value)}
                        />
                        <button type="submit" className="button" disabled={busy || !begin.trim()}>
                          In that block
                        </button>
                      </form>
                    )}
                  </div>
                </fieldset>
              ))}
            </div>
          )}
          {answer.notes.length > 0 && (
            <ul className="small soft mb-2" data-testid="read-as">
              {answer.notes.map((n) => (
                <li key={n}>{n}</li>
              ))}
            </ul>
          )}
          {answer.asides.length > 0 && (
            <details className="small mb-2">
              <summary>
                {count(answer.asides.length, "row")} {answer.asides.length === 1 ? "is no point" : "are no points"}:
                titles, remarks, headings again
              </summary>
              {answer.asides.map((a) => (
                <p key={a.line} className="mt-1">
                  <span className="mono soft">line {a.line}</span> {a.text} <span className="soft">({a.what})</span>
                </p>
              ))}
            </details>
          )}
          {answer.rejected.length > 0 && <Rejects answer={answer} rows={bad} onCell={setCell} />}
          {answer.preview.length > 0 && (
            <div className="max-h-[220px] overflow-auto">
              <table className="rows small">
                <thead>
                  <tr>
                    <th>Line</th>
                    {points.columns.map((c) => (
                      <th key={c}>{titles[c] ?? c}</th>
                    ))}
                    <th>Effect</th>
                  </tr>
                </thead>
                <tbody>
                  {answer.preview.map((r, k) => (
                    <tr key={`${r.line}-${k}`}>
                      <td className="num">{r.line}</td>
                      {points.columns.map((c, i) => (
                        <td
                          key={c}
                          className="mono !py-[2px] whitespace-nowrap"
                          style={r.changed.includes(c) ? { background: "var(--doubt-wash)" } : undefined}
                        >
                          {r.cells[i]}
                        </td>
                      ))}
                      <td className="soft">{r.effect}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
          {answer.findingCount > 0 && (
            <details className="small mt-2">
              <summary>The map would have {count(answer.findingCount, "finding")} with these rows in it</summary>
              {answer.findings.slice(0, 20).map((f) => (
                <p key={f.code + f.subject.id} className="mt-1">
                  <b>{f.title}.</b> {f.sentence}
                </p>
              ))}
            </details>
          )}
          {answer.removedCount > 0 && !corrected && (
            <label className="small mt-2 flex items-start gap-2" data-testid="removed">
              <input
                type="checkbox"
                className="mt-[3px]"
                checked={replace}
                onChange={(e) => setReplace(e.target.checked)}
              />
              <span>
                {count(answer.removedCount, "point")} of the map {answer.removedCount === 1 ? "is" : "are"} in no row
                {answer.removed.length ? (
                  <span className="soft">
                    {" "}
                    ({answer.removed.slice(0, 6).join(", ")}
                    {answer.removedCount > 6 ? " …" : ""})
                  </span>
                ) : null}
                : remove {answer.removedCount === 1 ? "it" : "them"}
              </span>
            </label>
          )}
        </>
      )}
      <div className="mt-4 flex justify-end gap-2">
        <button type="button" className="button" onClick={onClose}>
          Close
        </button>
        {!answer && (
          <button
            type="button"
            className="button main"
            disabled={!source.text?.trim() || busy}
            onClick={() => void look(source)}
          >
            Look at them
          </button>
        )}
        {answer && bad.length > 0 && (
          <button type="button" className="button" disabled={busy || open.length > 0} onClick={() => void check()}>
            {corrected ? "Check the corrected rows" : "Bring in the good rows, check the corrected"}
          </button>
        )}
        {answer && (
          <button
            type="button"
            className="button main"
            disabled={
              busy || open.length > 0 || answer.added + answer.changed + (replace ? answer.removedCount : 0) === 0
            }
            onClick={() => void bringIn()}
          >
            {busy
              ? "Working…"
              : open.length > 0
                ? `Answer ${count(open.length, "question")} first`
                : `Bring in ${count(answer.added + answer.changed, "row")}`}
          </button>
        )}
      </div>
    </Dialog>
  );
}
/** The rows that cannot come in, each bad cell open for correction with its reason. */
function Rejects({
  answer,
  rows,
  onCell,
}: {
  answer: IntakeAnswer;
  rows: Row[];
  onCell: (line: number, col: number, value: string) => void;
}) {
  const scroll = useRef<HTMLDivElement>(null);
  const list = answer.rejected;
  const virtual = useVirtualizer({
    count: list.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => 34,
    overscan: 10,
  });
  const byLine = new Map(rows.map((r) => [r.line, r]));
  const at = (heading: string) =>
    Math.max(
      0,
      answer.headings.indexOf(heading) >= 0 ? answer.headings.indexOf(heading) : answer.columns.indexOf(heading),
    );
  return (
    <div ref={scroll} className="mb-3 max-h-[210px] overflow-auto rounded border border-rule" data-testid="rejects">
      <div className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => {
          const r = list[item.index];
          if (!r) return null;
          const col = at(r.column);
          return (
            <div
              key={item.key}
              className="absolute grid w-full grid-cols-[80px_110px_170px_1fr] items-center gap-2 px-2"
              style={{ top: item.start, height: 34 }}
            >
              <span className="mono soft">line {r.line}</span>
              <b className="truncate">{r.column}</b>
              <input
                className="input mono"
                aria-label={`${r.column} in line ${r.line}`}
                aria-invalid
                value={byLine.get(r.line)?.cells[col] ?? r.cell}
                onChange={(e) => onCell(r.line, col, e.target.value)}
              />
              <span className="small truncate" title={r.reason}>
                {r.reason}
              </span>
            </div>
          );
        })}
      </div>
    </div>
  );
}
