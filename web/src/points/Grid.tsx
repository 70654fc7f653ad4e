import { useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";
import { flushSync } from "react-dom";
import { newId, post, problemOf, useEdit } from "../api/client";
import { useLive, useLiveState } from "../api/live";
import type { CellEdit, Finding, PointRow, PointsView, Problem } from "../api/types.gen";
import { Mark, markOf } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { shown, Tip } from "../shared/ui";

const titles: Record<string, string> = { name: "Name", address: "Address", type: "Reads as", order: "Order", scale: "Scale", offset: "Offset", unit: "Unit", decimals: "Decimals", pace: "Pace", access: "Access", remark: "Remark" };
const widths: Record<string, number> = { name: 158, address: 84, type: 78, order: 92, scale: 68, offset: 60, unit: 70, decimals: 74, pace: 62, access: 60, remark: 160 };
const rowHeight = 30;

interface Spot {
  row: number;
  col: number;
}

/** The map as a spreadsheet: it moves, edits, copies, pastes and fills as spreadsheets do. */
export function Grid({ points, chosen, onChoose, onTable }: { points: PointsView; chosen?: string; onChoose: (id: string) => void; onTable: (text: string) => void }) {
  const { rows, columns } = points;
  const client = useQueryClient();
  const edit = useEdit();
  const scroll = useRef<HTMLDivElement>(null);
  const [active, setActive] = useState<Spot>(() => ({ row: Math.max(0, rows.findIndex((r) => r.id === chosen)), col: 0 }));
  const [anchor, setAnchor] = useState<Spot>(active);
  const [typing, setTyping] = useState<{ text: string; version: number; id: string; problem?: Problem }>();
  const virtual = useVirtualizer({ count: rows.length + 1, getScrollElement: () => scroll.current, estimateSize: () => rowHeight, overscan: 12 });
  const findings = useMemo(() => {
    const map = new Map<string, Finding[]>();
    for (const f of points.findings) map.set(f.subject.id, [...(map.get(f.subject.id) ?? []), f]);
    return map;
  }, [points.findings]);
  const template = `30px ${columns.map((c) => `${widths[c] ?? 90}px`).join(" ")} minmax(148px, 1fr)`;

  const box = { top: Math.min(active.row, anchor.row), bottom: Math.max(active.row, anchor.row), left: Math.min(active.col, anchor.col), right: Math.max(active.col, anchor.col) };
  const rowAt = (i: number): PointRow | undefined => rows[i];
  const go = (row: number, col: number, extend = false) => {
    const next = { row: Math.max(0, Math.min(rows.length, row)), col: Math.max(0, Math.min(columns.length - 1, col)) };
    setActive(next);
    if (!extend) setAnchor(next);
    virtual.scrollToIndex(next.row);
    const id = rowAt(next.row)?.id;
    if (id && id !== chosen) onChoose(id);
  };
  // A point opened from elsewhere, such as a finding, is shown.
  useEffect(() => {
    const at = rows.findIndex((r) => r.id === chosen);
    if (at >= 0 && at !== active.row) {
      setActive({ row: at, col: active.col });
      setAnchor({ row: at, col: active.col });
      virtual.scrollToIndex(at);
    }
    // Only when another point is chosen, not on every refresh of the rows.
    // oxlint-disable-next-line react/exhaustive-deps
  }, [chosen]);
  useEffect(() => scroll.current?.focus({ preventScroll: true }), []);

  const refresh = () => client.invalidateQueries({ queryKey: ["points", points.device] });
  const send = async (what: string, cells: CellEdit[]) => {
    await post(`/api/devices/${points.device}/cells`, { what, cells });
    await refresh();
  };
  const cellsOf = (from: typeof box, text: (row: PointRow, col: number, r: number, c: number) => string | undefined): CellEdit[] => {
    const cells: CellEdit[] = [];
    for (let r = from.top; r <= Math.min(from.bottom, rows.length - 1); r++) {
      const row = rows[r];
      if (!row) continue;
      for (let c = from.left; c <= Math.min(from.right, columns.length - 1); c++) {
        const t = text(row, c, r - from.top, c - from.left);
        if (t !== undefined && t !== row.cells[c]) cells.push({ point: row.id, column: columns[c] ?? "", text: t, base: row.version });
      }
    }
    return cells;
  };

  const begin = (text?: string) => {
    const row = rowAt(active.row);
    if (row) setTyping({ text: text ?? row.cells[active.col] ?? "", version: row.version, id: row.id });
    else if (columns[active.col] === "name" || columns[active.col] === "address") setTyping({ text: text ?? "", version: 0, id: "" });
  };
  // Where to go when what is being kept has been kept.
  const after = useRef<Spot>(undefined);
  const keeping = useRef(false);
  const commit = async (move: [number, number], target?: Spot) => {
    if (!typing) return;
    after.current = target ?? after.current;
    if (keeping.current) return;
    keeping.current = true;
    const row = rows.find((r) => r.id === typing.id);
    const column = columns[active.col] ?? "";
    try {
      if (!typing.id) await addRow(column, typing.text);
      else if (row && typing.text !== row.cells[active.col]) await send(`changed ${column} of ${row.cells[0]}`, [{ point: row.id, column, text: typing.text, base: typing.version }]);
      setTyping(undefined);
      scroll.current?.focus({ preventScroll: true });
      const next = after.current ?? { row: active.row + move[0], col: active.col + move[1] };
      go(next.row, next.col);
    } catch (error) {
      setTyping({ ...typing, problem: problemOf(error), version: problemOf(error).code === "stale" ? (row?.version ?? 0) : typing.version });
      if (problemOf(error).code === "stale") await refresh();
    } finally {
      keeping.current = false;
      after.current = undefined;
    }
  };
  /** Typing into the empty last row adds a point. */
  const addRow = async (column: string, text: string) => {
    if (!text.trim()) return;
    if (column === "name") {
      const id = newId();
      await edit(`added ${text}`, [{ kind: "point", id, parent: points.device, base: 0, after: { id, name: text.trim(), address: "", type: "uint16", paceMs: 1000, access: "r" } }]);
    } else {
      await post(`/api/devices/${points.device}/intake`, { commit: true, rows: [{ line: 1, cells: [`Point ${rows.length + 1}`, text] }], columns: ["name", "address"] });
    }
    await refresh();
  };
  const remove = () => attempt(async () => {
    const gone = rows.slice(box.top, box.bottom + 1);
    if (!gone.length) return;
    await edit(gone.length === 1 ? `removed ${gone[0]?.cells[0]}` : `removed ${gone.length} points`, gone.map((r) => ({ kind: "point", id: r.id, parent: points.device, base: r.version, after: null })));
    await refresh();
    say(`${gone.length} ${gone.length === 1 ? "point" : "points"} removed. Ctrl Z takes it back.`);
  });
  const paste = (text: string) => attempt(async () => {
    const lines = text.replace(/\r?\n$/, "").split(/\r?\n/).map((line) => line.split("\t"));
    if (!rowAt(active.row) || (lines.length > rows.length - box.top && (lines[0]?.length ?? 0) > 1)) return onTable(text);
    const one = lines.length === 1 && lines[0]?.length === 1;
    const target = one ? box : { top: box.top, left: box.left, bottom: box.top + lines.length - 1, right: box.left + Math.max(...lines.map((l) => l.length)) - 1 };
    const cells = cellsOf(target, (_row, _col, r, c) => (one ? lines[0]?.[0] : lines[r]?.[c]));
    if (cells.length) await send(`pasted ${cells.length} cells`, cells);
    return undefined;
  });
  const fillDown = () => attempt(async () => {
    const cells = cellsOf(box, (_row, col) => rows[box.top]?.cells[col]);
    if (cells.length) await send(`filled ${cells.length} cells down`, cells);
  });

  const onKey = (e: KeyboardEvent) => {
    if (typing) return;
    const ctrl = e.ctrlKey || e.metaKey;
    const moves: Record<string, [number, number]> = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1], PageUp: [-15, 0], PageDown: [15, 0] };
    const move = moves[e.key];
    const done = () => e.preventDefault();
    if (move && !e.altKey) {
      done();
      if (ctrl) go(move[0] ? (move[0] < 0 ? 0 : rows.length - 1) : active.row, move[1] ? (move[1] < 0 ? 0 : columns.length - 1) : active.col, e.shiftKey);
      else go(active.row + move[0], active.col + move[1], e.shiftKey);
    } else if (e.key === "Home") { done(); go(ctrl ? 0 : active.row, 0, e.shiftKey); }
    else if (e.key === "End") { done(); go(ctrl ? rows.length - 1 : active.row, columns.length - 1, e.shiftKey); }
    else if (e.key === "Tab" && !(e.shiftKey ? active.col === 0 : active.col === columns.length - 1)) { done(); go(active.row, active.col + (e.shiftKey ? -1 : 1)); }
    else if (e.key === "Enter" || e.key === "F2") { done(); begin(); }
    else if (ctrl && e.key.toLowerCase() === "d") { done(); void fillDown(); }
    else if (ctrl && e.key.toLowerCase() === "a") { done(); setAnchor({ row: 0, col: 0 }); setActive({ row: rows.length - 1, col: columns.length - 1 }); }
    else if (ctrl && e.key === "Delete") { done(); void remove(); }
    else if (e.key === "Delete" || e.key === "Backspace") {
      done();
      const cells = cellsOf(box, (_row, col) => (["name", "address", "type", "pace", "access"].includes(columns[col] ?? "") ? undefined : ""));
      if (cells.length) void attempt(() => send(`cleared ${cells.length} cells`, cells));
    } else if (e.key.length === 1 && !ctrl && !e.altKey && e.key !== "?") {
      // The editor has the focus before the browser types the character.
      flushSync(() => begin(""));
    }
  };

  return (
    <div
      ref={scroll} className="min-h-0 flex-1 overflow-auto outline-none" tabIndex={0} role="grid" aria-label="Map" aria-rowcount={rows.length} aria-colcount={columns.length}
      onKeyDown={onKey}
      onCopy={(e) => {
        if (typing) return;
        e.preventDefault();
        e.clipboardData.setData("text/plain", rows.slice(box.top, box.bottom + 1).map((r) => r.cells.slice(box.left, box.right + 1).join("\t")).join("\n"));
      }}
      onPaste={(e) => {
        if (typing) return;
        e.preventDefault();
        void paste(e.clipboardData.getData("text/plain"));
      }}
    >
      <div className="sticky top-0 z-10 grid w-max min-w-full bg-band" style={{ gridTemplateColumns: template, height: rowHeight }} role="row">
        <span />
        {columns.map((c) => <span key={c} role="columnheader" className="small soft flex items-center px-2 font-semibold">{titles[c] ?? c}</span>)}
        <span role="columnheader" className="small soft sticky right-0 flex items-center justify-end border-l border-rule bg-band px-3 font-semibold">Now</span>
      </div>
      <div className="relative w-max min-w-full" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => {
          const row = rowAt(item.index);
          const own = row ? (findings.get(row.id) ?? []) : [];
          return (
            <div key={row?.id ?? "new"} role="row" aria-rowindex={item.index + 1} data-point={row?.id} className="absolute left-0 grid w-full"
              style={{ top: item.start, height: rowHeight, gridTemplateColumns: template, background: item.index === active.row ? "color-mix(in srgb, var(--tide-wash) 55%, transparent)" : undefined }}>
              <span className="flex items-center justify-center border-b border-rule">
                {own.length > 0 ? <Tip text={own.map((f) => <p key={f.code}>{f.sentence} {f.remedy}</p>)}><span><Mark kind={markOf(own[0]?.severity)} size={15} label={own[0]?.sentence} /></span></Tip> : row && <RowMark id={row.id} />}
              </span>
              {columns.map((column, col) => {
                const isActive = item.index === active.row && col === active.col;
                const wrong = own.find((f) => f.subject.column === column);
                const inside = item.index >= box.top && item.index <= box.bottom && col >= box.left && col <= box.right;
                const cell = (
                  <div key={column} role="gridcell" tabIndex={-1} data-col={column} aria-selected={inside} className={`grid-cell ${column === "name" ? "font-semibold" : column === "remark" || column === "unit" ? "" : "mono"} ${inside ? "selected" : ""} ${isActive ? "active" : ""} ${wrong ? wrong.severity : ""}`}
                    onMouseDown={(e) => {
                      if (isActive && typing) return;
                      if (typing) {
                        e.preventDefault();
                        void commit([0, 0], { row: item.index, col });
                      } else go(item.index, col, e.shiftKey);
                    }}
                    onMouseEnter={(e) => { if (e.buttons === 1 && !typing) setActive({ row: item.index, col }); }}
                    onDoubleClick={() => begin()}>
                    {isActive && typing ? (
                      <CellInput text={typing.text} choices={points.choices[column] ?? []} problem={typing.problem} label={titles[column] ?? column}
                        onText={(text) => setTyping({ ...typing, text, problem: undefined })} onCommit={commit} onCancel={() => { setTyping(undefined); scroll.current?.focus({ preventScroll: true }); }} />
                    ) : row ? row.cells[col] : column === "name" ? <span className="soft font-normal">new point…</span> : ""}
                  </div>
                );
                return wrong && !(isActive && typing) ? <Tip key={column} text={<>{wrong.sentence} {wrong.remedy}</>}>{cell}</Tip> : cell;
              })}
              {row ? <Now id={row.id} unit={row.cells[columns.indexOf("unit")] ?? ""} /> : <span className="border-b border-rule" />}
            </div>
          );
        })}
      </div>
    </div>
  );
}

/** The editor of a cell. It stays open, with the reason, while what it holds cannot be kept. */
function CellInput({ text, choices, problem, label, onText, onCommit, onCancel }: { text: string; choices: string[]; problem?: Problem; label: string; onText: (t: string) => void; onCommit: (move: [number, number]) => Promise<void>; onCancel: () => void }) {
  const input = useRef<HTMLInputElement>(null);
  useLayoutEffect(() => {
    input.current?.focus();
    input.current?.setSelectionRange(text.length, text.length);
    // Once, when the editor opens.
    // oxlint-disable-next-line react/exhaustive-deps
  }, []);
  return (
    <>
      <input ref={input} aria-label={label} aria-invalid={!!problem} list={choices.length ? "cell-choices" : undefined} value={text} spellCheck={false} className="h-full w-full bg-sheet outline-none"
        onChange={(e) => onText(e.target.value)}
        onBlur={() => { if (!problem) void onCommit([0, 0]); }}
        onKeyDown={(e) => {
          if (e.key === "Enter") { e.preventDefault(); void onCommit([e.shiftKey ? -1 : 1, 0]); }
          else if (e.key === "Tab") { e.preventDefault(); void onCommit([0, e.shiftKey ? -1 : 1]); }
          else if (e.key === "Escape") { e.preventDefault(); onCancel(); }
          e.stopPropagation();
        }} />
      {choices.length > 0 && <datalist id="cell-choices">{choices.map((c) => <option key={c} value={c}>{c}</option>)}</datalist>}
      {problem && (
        <div className="notice fixed z-30 mt-16 max-w-[380px] whitespace-normal shadow-lg" role="alert" data-code={problem.code}><b>{problem.sentence}</b> {problem.do}<div className="small soft">Correct it, or give up with Esc.</div></div>
      )}
    </>
  );
}

/** How old a value is that has not been read in time. */
function Age({ atMs }: { atMs: number }) {
  const { nowMs } = useLiveState();
  const seconds = Math.round((nowMs - atMs) / 1000);
  return seconds > 1 ? <span className="small" style={{ color: "var(--doubt-text)" }}>{seconds < 120 ? `${seconds} s` : `${Math.round(seconds / 60)} min`} old</span> : null;
}

function RowMark({ id }: { id: string }) {
  const live = useLive(id);
  return <Mark kind={markOf(live?.quality)} size={15} label={live?.reason || live?.quality} />;
}

/** The value of a point as it is now, marked for a second when it has changed. */
function Now({ id, unit }: { id: string; unit: string }) {
  const live = useLive(id);
  const read = live && live.atMs > 0;
  return (
    <span className="mono sticky right-0 flex items-center justify-end gap-2 overflow-hidden border-b border-l border-rule bg-paper px-3 whitespace-nowrap" data-now={id} title={live?.reason}>
      {!read ? <span className="soft">{live?.quality === "bad" ? "cannot be read" : "not read yet"}</span>
        : live.quality === "bad" ? <span className="soft">— <s>{shown(live)}</s></span>
          : <>{live.quality === "doubtful" && <Age atMs={live.atMs} />}<span key={live.changedMs} className="fresh rounded px-1">{shown(live)}</span>{unit && <span className="soft">{unit}</span>}</>}
    </span>
  );
}
