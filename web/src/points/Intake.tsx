import { useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useCallback, useEffect, useRef, useState } from "react";
import { post, problemOf } from "../api/client";
import type { IntakeAnswer, IntakeRequest, Problem, Row } from "../api/types.gen";
import { say } from "../shared/toast";
import { Dialog, ProblemNotice } from "../shared/ui";
import { count } from "../Shell";

const columns = ["", "name", "address", "type", "order", "scale", "offset", "unit", "pace", "decimals", "access", "remark"];

/** Brings a table in: paste or file, then a preview, the bad rows listed to be corrected in place. */
export function Intake({ device, name, text, onClose }: { device: string; name: string; text: string; onClose: () => void }) {
  const client = useQueryClient();
  const [source, setSource] = useState(text);
  const [answer, setAnswer] = useState<IntakeAnswer>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const [bad, setBad] = useState<Row[]>([]);

  const ask = useCallback(async (request: IntakeRequest): Promise<IntakeAnswer | undefined> => {
    setBusy(true);
    setProblem(undefined);
    try {
      const got = await post<IntakeAnswer>(`/api/devices/${device}/intake`, request);
      setAnswer(got);
      setBad(got.rejectedRows);
      return got;
    } catch (error) {
      setProblem(problemOf(error));
      return undefined;
    } finally {
      setBusy(false);
    }
  }, [device]);
  const preview = useCallback(async (table: string) => { setSource(table); if (table.trim()) await ask({ text: table, commit: false }); }, [ask]);
  useEffect(() => { if (text) void preview(text); }, [text, preview]);

  const [corrected, setCorrected] = useState<Row[]>();
  const bringIn = async () => {
    const request: IntakeRequest = corrected ? { rows: corrected, headings: answer?.headings, columns: answer?.columns, commit: true } : { text: source, columns: answer?.columns, commit: true };
    const got = await ask(request);
    if (!got) return;
    await client.invalidateQueries({ queryKey: ["points", device] });
    await client.invalidateQueries({ queryKey: ["site"] });
    say(`${count(got.added, "point")} added and ${got.changed} changed in the map of ${name}.`);
    if (got.rejectedRows.length === 0) return onClose();
    // What is left is corrected on its own.
    setCorrected(got.rejectedRows);
    await ask({ rows: got.rejectedRows, headings: got.headings, columns: got.columns, commit: false });
  };
  const setCell = (line: number, col: number, value: string) => setBad(bad.map((r) => (r.line === line ? { ...r, cells: Array.from({ length: Math.max(r.cells.length, col + 1) }, (_, i) => (i === col ? value : (r.cells[i] ?? ""))) } : r)));
  const check = async () => {
    if (corrected) { setCorrected(bad); await ask({ rows: bad, headings: answer?.headings, columns: answer?.columns, commit: false }); return; }
    // The good rows come in first; what is left is corrected on its own.
    const good = await ask({ text: source, columns: answer?.columns, commit: true });
    if (!good) return;
    await client.invalidateQueries({ queryKey: ["points", device] });
    setCorrected(bad);
    await ask({ rows: bad, headings: answer?.headings, columns: answer?.columns, commit: false });
  };
  const setColumn = (i: number, column: string) => {
    if (!answer) return;
    const next = answer.columns.map((c, j) => (j === i ? column : c === column && column ? "" : c));
    void ask(corrected ? { rows: corrected, headings: answer.headings, columns: next, commit: false } : { text: source, columns: next, commit: false });
  };
  return (
    <Dialog open onClose={onClose} title={`Bring rows into the map of ${name}`} wide>
      {!answer && (
        <>
          <p className="soft mb-2">Paste rows copied from a spreadsheet, with or without their headings. Commas, semicolons and tabs are all understood.</p>
          <textarea className="input mono" rows={10} aria-label="Rows" autoFocus value={source} onChange={(e) => setSource(e.target.value)} onPaste={(e) => { e.preventDefault(); void preview(e.clipboardData.getData("text/plain")); }} placeholder={"Name\tAddress\tType\tUnit\nOxygen\t40001\tfloat32\tmg/L"} />
        </>
      )}
      {problem && <ProblemNotice problem={problem} />}
      {answer && (
        <>
          <p className="mb-2" data-testid="intake-summary">
            <b>{count(answer.total, "row")}:</b> {answer.added} new, {answer.changed} changed, {answer.same} as they are, {answer.rejected.length ? <b className="text-fault">{count(bad.length, "row")} cannot come in yet</b> : "none with a problem"}.
          </p>
          <div className="mb-3 flex flex-wrap gap-2">
            {answer.columns.map((column, i) => (
              <label key={`${i}-${answer.headings[i] ?? ""}`} className="small flex items-center gap-1">
                <span className="soft">{answer.headings[i] || `column ${i + 1}`}</span>
                <select className="input !w-auto !py-0" aria-label={`What ${answer.headings[i] || `column ${i + 1}`} holds`} value={column} onChange={(e) => setColumn(i, e.target.value)}>
                  {columns.map((c) => <option key={c} value={c}>{c || "left out"}</option>)}
                </select>
              </label>
            ))}
          </div>
          {answer.rejected.length > 0 && <Rejects answer={answer} rows={bad} onCell={setCell} />}
          {answer.preview.length > 0 && (
            <div className="max-h-[220px] overflow-auto">
              <table className="rows small">
                <thead><tr><th>Line</th>{columns.slice(1).map((c) => <th key={c}>{c}</th>)}<th>effect</th></tr></thead>
                <tbody>{answer.preview.map((r) => <tr key={r.line}><td className="num">{r.line}</td>{columns.slice(1).map((c, i) => <td key={c} className="mono !py-[2px]">{r.cells[i]}</td>)}<td className="soft">{r.effect}</td></tr>)}</tbody>
              </table>
            </div>
          )}
        </>
      )}
      <div className="mt-4 flex justify-end gap-2">
        <button type="button" className="button" onClick={onClose}>Close</button>
        {!answer && <button type="button" className="button main" disabled={!source.trim() || busy} onClick={() => void preview(source)}>Look at them</button>}
        {answer && bad.length > 0 && <button type="button" className="button" disabled={busy} onClick={() => void check()}>{corrected ? "Check the corrected rows" : "Bring in the good rows, check the corrected"}</button>}
        {answer && <button type="button" className="button main" disabled={busy || answer.added + answer.changed === 0} onClick={() => void bringIn()}>{busy ? "Working…" : `Bring in ${count(answer.added + answer.changed, "row")}`}</button>}
      </div>
    </Dialog>
  );
}

/** The rows that cannot come in, each bad cell open for correction with its reason. */
function Rejects({ answer, rows, onCell }: { answer: IntakeAnswer; rows: Row[]; onCell: (line: number, col: number, value: string) => void }) {
  const scroll = useRef<HTMLDivElement>(null);
  const list = answer.rejected;
  const virtual = useVirtualizer({ count: list.length, getScrollElement: () => scroll.current, estimateSize: () => 34, overscan: 10 });
  const byLine = new Map(rows.map((r) => [r.line, r]));
  const at = (heading: string) => Math.max(0, answer.headings.indexOf(heading) >= 0 ? answer.headings.indexOf(heading) : answer.columns.indexOf(heading));
  return (
    <div ref={scroll} className="mb-3 max-h-[210px] overflow-auto rounded border border-rule" data-testid="rejects">
      <div className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => {
          const r = list[item.index];
          if (!r) return null;
          const col = at(r.column);
          return (
            <div key={item.key} className="absolute grid w-full grid-cols-[80px_110px_170px_1fr] items-center gap-2 px-2" style={{ top: item.start, height: 34 }}>
              <span className="mono soft">line {r.line}</span><b className="truncate">{r.column}</b>
              <input className="input mono" aria-label={`${r.column} in line ${r.line}`} aria-invalid value={byLine.get(r.line)?.cells[col] ?? r.cell} onChange={(e) => onCell(r.line, col, e.target.value)} />
              <span className="small truncate" title={r.reason}>{r.reason}</span>
            </div>
          );
        })}
      </div>
    </div>
  );
}
