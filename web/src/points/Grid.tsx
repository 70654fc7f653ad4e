import { useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import {
  memo,
  useDeferredValue,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
  type KeyboardEvent,
  type ReactNode,
} from "react";
import { flushSync } from "react-dom";
import { post, ProblemError, problemOf, useEdit, mapPath } from "../api/client";
import { useLive, useLiveState } from "../api/live";
import type {
  BulkAnswer,
  BulkRequest,
  CellEdit,
  Finding,
  IntakeAnswer,
  PointRow,
  PointsView,
  Problem,
} from "../api/types.gen";
import { Mark, markOf } from "../shared/Mark";
import { useSlots } from "../shared/slots";
import { attempt, say } from "../shared/toast";
import { shown } from "../shared/ui";

export const titles: Record<string, string> = {
  name: "Name",
  address: "Address",
  type: "Reads as",
  order: "Order",
  scale: "Scale",
  offset: "Offset",
  unit: "Unit",
  decimals: "Decimals",
  pace: "Pace",
  access: "Access",
  names: "Named values",
  missing: "Not available",
  low: "Lowest",
  high: "Highest",
  change: "Fastest change",
  remark: "Remark",
  count: "Registers",
  bit: "Bit",
  table: "Table",
  divisor: "Divisor",
  until: "Last register",
  readable: "Can be read",
  writable: "Can be written",
  limits: "Lowest to highest",
  signed: "Has a sign",
  rawlow: "Reads at lowest",
  rawhigh: "Reads at highest",
};
const widths: Record<string, number> = {
  name: 158,
  address: 84,
  type: 78,
  order: 92,
  scale: 68,
  offset: 60,
  unit: 70,
  decimals: 74,
  pace: 62,
  access: 60,
  names: 150,
  missing: 92,
  low: 70,
  high: 70,
  change: 90,
  remark: 160,
};
/** Of an address that is a name. */
const named = 230;
const rowHeight = 30;

interface Spot {
  row: number;
  col: number;
}

/** The map as a spreadsheet: it moves, edits, copies, pastes and fills as spreadsheets do. */
export const Grid = memo(function Grid({
  points,
  chosen,
  columns,
  filtering,
  onChoose,
  onTable,
  onSelect,
}: {
  points: PointsView;
  chosen?: string;
  columns: string[]; // shown
  filtering: boolean;
  onChoose: (id: string) => void;
  onTable: (text: string) => void;
  onSelect: (ids: string[], columns: string[]) => void;
}) {
  const [sort, setSort] = useState<Sorting>();
  const [filters, setFilters] = useState<Record<string, string>>({});
  const rows = useView(points, sort, useDeferredValue(filtering ? filters : noFilters));
  const ordered = sort === undefined && rows.length === points.rows.length;
  const cellAt = useMemo(() => columns.map((c) => points.columns.indexOf(c)), [columns, points.columns]);
  const unitAt = points.columns.indexOf("unit");
  const textOf = (row: PointRow, col: number) => row.cells[cellAt[col] ?? -1] ?? "";
  const client = useQueryClient();
  const edit = useEdit();
  const scroll = useRef<HTMLDivElement>(null);
  const [active, setActive] = useState<Spot>(() => ({
    row: Math.max(
      0,
      rows.findIndex((r) => r.id === chosen),
    ),
    col: 0,
  }));
  const [anchor, setAnchor] = useState<Spot>(active);
  const [typing, setTyping] = useState<{ text: string; version: number; id: string; problem?: Problem }>();
  const virtual = useVirtualizer({
    count: rows.length + (ordered ? 1 : 0),
    getScrollElement: () => scroll.current,
    estimateSize: () => rowHeight,
    overscan: 4,
  });
  const drawn = virtual.getVirtualItems();
  const slot = useSlots(drawn.length);
  const findings = useMemo(() => {
    const map = new Map<string, Finding[]>();
    for (const f of points.findings) map.set(f.subject.id, [...(map.get(f.subject.id) ?? []), f]);
    return map;
  }, [points.findings]);
  const wide = (c: string) => (c === "address" && !points.areas.length ? named : (widths[c] ?? 90));
  const template = `30px ${columns.map((c) => `${wide(c)}px`).join(" ")} minmax(188px, 1fr)`;

  const box = {
    top: Math.min(active.row, anchor.row),
    bottom: Math.max(active.row, anchor.row),
    left: Math.min(active.col, anchor.col),
    right: Math.max(active.col, anchor.col),
  };
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

  // The selection is what is done to many points at once.
  const told = useRef("");
  useEffect(() => {
    const ids = rows.slice(box.top, box.bottom + 1).map((r) => r.id);
    const key = `${ids.length} ${ids[0] ?? ""} ${ids.at(-1) ?? ""} ${box.left} ${box.right}`;
    if (key !== told.current) onSelect(ids, columns.slice(box.left, box.right + 1));
    told.current = key;
  });

  const refresh = () => client.invalidateQueries({ queryKey: ["points", points.device] });
  const send = async (what: string, cells: CellEdit[]) => {
    await post(mapPath(points, "cells"), { what, cells });
    await refresh();
  };
  const cellsOf = (
    from: typeof box,
    text: (row: PointRow, col: number, r: number, c: number) => string | undefined,
  ): CellEdit[] => {
    const cells: CellEdit[] = [];
    for (let r = from.top; r <= Math.min(from.bottom, rows.length - 1); r++) {
      const row = rows[r];
      if (!row) continue;
      for (let c = from.left; c <= Math.min(from.right, columns.length - 1); c++) {
        const t = text(row, c, r - from.top, c - from.left);
        if (t !== undefined && t !== textOf(row, c))
          cells.push({ point: row.id, column: columns[c] ?? "", text: t, base: row.version });
      }
    }
    return cells;
  };

  const begin = (text?: string) => {
    const row = rowAt(active.row);
    if (row) setTyping({ text: text ?? textOf(row, active.col), version: row.version, id: row.id });
    else if (columns[active.col] === "name" || columns[active.col] === "address")
      setTyping({ text: text ?? "", version: 0, id: "" });
  };
  // Where to go when what is being kept has been kept.
  const after = useRef<Spot>(undefined);
  const keeping = useRef(false);
  const commit = async (move: [number, number], target?: Spot, all = false) => {
    if (!typing) return;
    after.current = target ?? after.current;
    if (keeping.current) return;
    keeping.current = true;
    const row = rows.find((r) => r.id === typing.id);
    const column = columns[active.col] ?? "";
    try {
      if (!typing.id) await addRow(column, typing.text);
      else if (all) {
        const cells = cellsOf(box, () => typing.text);
        if (cells.length) await send(`set ${cells.length} cells to ${typing.text}`, cells);
      } else if (row && typing.text !== textOf(row, active.col))
        await send(`changed ${column} of ${row.cells[0]}`, [
          { point: row.id, column, text: typing.text, base: typing.version },
        ]);
      setTyping(undefined);
      scroll.current?.focus({ preventScroll: true });
      const next = after.current ?? { row: active.row + move[0], col: active.col + move[1] };
      go(next.row, next.col);
    } catch (error) {
      setTyping({
        ...typing,
        problem: problemOf(error),
        version: problemOf(error).code === "stale" ? (row?.version ?? 0) : typing.version,
      });
      if (problemOf(error).code === "stale") await refresh();
    } finally {
      keeping.current = false;
      after.current = undefined;
    }
  };
  /** Typing into the empty last row adds a point. */
  const addRow = async (column: string, text: string) => {
    if (!text.trim()) return;
    const [cells, own] =
      column === "name"
        ? [[text], ["name"]]
        : [
            [`Point ${points.rows.length + 1}`, text],
            ["name", "address"],
          ];
    const answer = await post<IntakeAnswer>(mapPath(points, "intake"), {
      commit: true,
      rows: [{ line: 1, cells }],
      columns: own,
    });
    const bad = answer.rejected[0];
    if (bad) throw new ProblemError({ code: "bad-cell", sentence: bad.reason + ".", where: bad.cell });
    if (!answer.added)
      throw new ProblemError({
        code: "taken",
        sentence: `The map has a point ${cells[0]} already.`,
        do: "Choose another name.",
      });
    await refresh();
  };
  const remove = () =>
    attempt(async () => {
      const gone = rows.slice(box.top, box.bottom + 1);
      if (!gone.length) return;
      await edit(
        gone.length === 1 ? `removed ${gone[0]?.cells[0]}` : `removed ${gone.length} points`,
        gone.map((r) => ({ kind: "point", id: r.id, parent: points.device, base: r.version, after: null })),
      );
      await refresh();
      say(`${gone.length} ${gone.length === 1 ? "point" : "points"} removed. Ctrl Z takes it back.`);
    });
  const paste = (text: string) =>
    attempt(async () => {
      const lines = text
        .replace(/\r?\n$/, "")
        .split(/\r?\n/)
        .map((line) => line.split("\t"));
      if (!rowAt(active.row) || (lines.length > rows.length - box.top && (lines[0]?.length ?? 0) > 1))
        return onTable(text);
      const one = lines.length === 1 && lines[0]?.length === 1;
      const target = one
        ? box
        : {
            top: box.top,
            left: box.left,
            bottom: box.top + lines.length - 1,
            right: box.left + Math.max(...lines.map((l) => l.length)) - 1,
          };
      const cells = cellsOf(target, (_row, _col, r, c) => (one ? lines[0]?.[0] : lines[r]?.[c]));
      if (cells.length) await send(`pasted ${cells.length} cells`, cells);
      return undefined;
    });
  const fillDown = () =>
    attempt(async () => {
      const cells = cellsOf(box, (_row, col) => (rows[box.top] ? textOf(rows[box.top] as PointRow, col) : undefined));
      if (cells.length) await send(`filled ${cells.length} cells down`, cells);
    });

  /** Counts names and addresses on from the first row of the selection. */
  const fillCounting = () =>
    attempt(async () => {
      const request: BulkRequest = {
        action: "fill",
        points: rows.slice(box.top, box.bottom + 1).map((r) => r.id),
        columns: columns.slice(box.left, box.right + 1),
      };
      const done = await post<BulkAnswer>(mapPath(points, "bulk"), request);
      await refresh();
      say(`${done.count} cells filled, counting on. Ctrl Z takes it back.`);
    });

  const onKey = (e: KeyboardEvent) => {
    if (typing || (e.target instanceof HTMLInputElement && e.target.dataset["filter"])) return;
    const ctrl = e.ctrlKey || e.metaKey;
    const moves: Record<string, [number, number]> = {
      ArrowUp: [-1, 0],
      ArrowDown: [1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      PageUp: [-15, 0],
      PageDown: [15, 0],
    };
    const move = moves[e.key];
    const done = () => e.preventDefault();
    if (move && !e.altKey) {
      done();
      if (ctrl)
        go(
          move[0] ? (move[0] < 0 ? 0 : rows.length - 1) : active.row,
          move[1] ? (move[1] < 0 ? 0 : columns.length - 1) : active.col,
          e.shiftKey,
        );
      else go(active.row + move[0], active.col + move[1], e.shiftKey);
    } else if (e.key === "Home") {
      done();
      go(ctrl ? 0 : active.row, 0, e.shiftKey);
    } else if (e.key === "End") {
      done();
      go(ctrl ? rows.length - 1 : active.row, columns.length - 1, e.shiftKey);
    } else if (e.key === "Tab" && !(e.shiftKey ? active.col === 0 : active.col === columns.length - 1)) {
      done();
      go(active.row, active.col + (e.shiftKey ? -1 : 1));
    } else if (e.key === "Enter" || e.key === "F2") {
      done();
      begin();
    } else if (ctrl && e.shiftKey && e.key.toLowerCase() === "d") {
      done();
      void fillCounting();
    } else if (ctrl && e.key.toLowerCase() === "d") {
      done();
      void fillDown();
    } else if (ctrl && e.key.toLowerCase() === "a") {
      done();
      setAnchor({ row: 0, col: 0 });
      setActive({ row: rows.length - 1, col: columns.length - 1 });
    } else if (ctrl && e.key === "Delete") {
      done();
      void remove();
    } else if (e.key === "Delete" || e.key === "Backspace") {
      done();
      const cells = cellsOf(box, (_row, col) =>
        ["name", "address", "type", "pace", "access"].includes(columns[col] ?? "") ? undefined : "",
      );
      if (cells.length) void attempt(() => send(`cleared ${cells.length} cells`, cells));
    } else if (e.key.length === 1 && !ctrl && !e.altKey && e.key !== "?") {
      // The editor has the focus before the browser types the character.
      flushSync(() => begin(""));
    }
  };

  return (
    <div
      ref={scroll}
      className="min-h-0 flex-1 overflow-auto outline-none"
      tabIndex={0}
      role="grid"
      aria-label="Map"
      aria-rowcount={rows.length}
      aria-colcount={columns.length}
      onKeyDown={onKey}
      onMouseDown={(e) => {
        const spot = spotOf(e.target, columns);
        if (!spot || (typing && spot.row === active.row && spot.col === active.col)) return;
        if (typing) {
          e.preventDefault();
          void commit([0, 0], spot);
        } else go(spot.row, spot.col, e.shiftKey);
      }}
      onMouseOver={(e) => {
        const spot = e.buttons === 1 && !typing ? spotOf(e.target, columns) : undefined;
        if (spot) setActive(spot);
      }}
      onFocus={noop}
      onDoubleClick={(e) => {
        if (spotOf(e.target, columns)) begin();
      }}
      onCopy={(e) => {
        if (typing) return;
        e.preventDefault();
        e.clipboardData.setData(
          "text/plain",
          rows
            .slice(box.top, box.bottom + 1)
            .map((r) =>
              columns
                .slice(box.left, box.right + 1)
                .map((_c, i) => textOf(r, box.left + i))
                .join("\t"),
            )
            .join("\n"),
        );
      }}
      onPaste={(e) => {
        if (typing) return;
        e.preventDefault();
        void paste(e.clipboardData.getData("text/plain"));
      }}
    >
      <div role="rowgroup" className="sticky top-0 z-10 w-max min-w-full bg-band">
        <div className="grid" style={{ gridTemplateColumns: template, height: rowHeight }} role="row">
          <span
            role="columnheader"
            className="flex"
            aria-sort={sort?.by === "findings" ? (sort.down ? "descending" : "ascending") : "none"}
          >
            <button
              type="button"
              aria-label="Sort by findings"
              className="flex flex-1 items-center justify-center"
              onClick={() => setSort(turned(sort, "findings"))}
            >
              {arrow(sort, "findings") || <span className="soft small">!</span>}
            </button>
          </span>
          {columns.map((c) => (
            <span
              key={c}
              role="columnheader"
              className="flex min-w-0"
              aria-sort={sort?.by === c ? (sort.down ? "descending" : "ascending") : "none"}
            >
              <button
                type="button"
                title={`Sort by ${titles[c] ?? c}`}
                className="small soft flex flex-1 items-center gap-1 overflow-hidden px-2 text-left font-semibold whitespace-nowrap"
                onClick={() => setSort(turned(sort, c))}
              >
                {titles[c] ?? c}
                {arrow(sort, c)}
              </button>
            </span>
          ))}
          <span
            role="columnheader"
            className="small soft sticky right-0 flex items-center justify-end border-l border-rule bg-band px-3 font-semibold"
          >
            Now
          </span>
        </div>
        {filtering && (
          <div
            className="grid border-b border-rule"
            style={{ gridTemplateColumns: template, height: rowHeight }}
            role="row"
          >
            <span role="gridcell" aria-label="Filters" />
            {columns.map((c) => (
              <span key={c} role="gridcell" className="flex min-w-0">
                <input
                  data-filter={c}
                  aria-label={`Filter ${titles[c] ?? c}`}
                  className="mono m-[2px] min-w-0 flex-1 rounded border border-rule bg-sheet px-1"
                  placeholder="filter"
                  spellCheck={false}
                  value={filters[c] ?? ""}
                  onChange={(e) => setFilters({ ...filters, [c]: e.target.value })}
                  onPaste={(e) => e.stopPropagation()}
                  onCopy={(e) => e.stopPropagation()}
                />
              </span>
            ))}
            <span
              role="gridcell"
              className="small soft sticky right-0 flex items-center justify-end border-l border-rule bg-band px-3"
              data-testid="filtered"
            >
              {rows.length === points.rows.length ? "" : `${rows.length} shown`}
            </span>
          </div>
        )}
      </div>
      <div role="rowgroup" className="relative w-max min-w-full" style={{ height: virtual.getTotalSize() }}>
        {drawn.map((item) => {
          const row = rowAt(item.index);
          const inside = item.index >= box.top && item.index <= box.bottom;
          const here = item.index === active.row;
          return (
            <RowView
              key={slot(item.index)}
              row={row}
              index={item.index}
              top={item.start}
              template={template}
              columns={columns}
              cellAt={cellAt}
              own={(row && findings.get(row.id)) ?? noFindings}
              left={inside ? box.left : -1}
              right={inside ? box.right : -1}
              activeCol={here ? active.col : -1}
              unit={row?.cells[unitAt] ?? ""}
              editor={
                here && typing ? (
                  <CellInput
                    text={typing.text}
                    choices={points.choices[columns[active.col] ?? ""] ?? []}
                    problem={typing.problem}
                    label={titles[columns[active.col] ?? ""] ?? ""}
                    onText={(text) => setTyping({ ...typing, text, problem: undefined })}
                    onCommit={commit}
                    onCancel={() => {
                      setTyping(undefined);
                      scroll.current?.focus({ preventScroll: true });
                    }}
                  />
                ) : undefined
              }
            />
          );
        })}
      </div>
    </div>
  );
});

const noop = () => {};
const noFindings: Finding[] = [];

/** The place of the cell that an event happened in. */
function spotOf(target: EventTarget, columns: string[]): Spot | undefined {
  if (!(target instanceof Element)) return undefined;
  const col = columns.indexOf(target.closest("[data-col]")?.getAttribute("data-col") ?? "");
  const row = Number(target.closest("[aria-rowindex]")?.getAttribute("aria-rowindex") ?? 0) - 1;
  return col < 0 || row < 0 ? undefined : { row, col };
}

/** One row. It is drawn anew only when something in it changed, so that scrolling stays cheap. */
const RowView = memo(function RowView({
  row,
  index,
  top,
  template,
  columns,
  cellAt,
  own,
  left,
  right,
  activeCol,
  unit,
  editor,
}: {
  row?: PointRow;
  index: number;
  top: number;
  template: string;
  columns: string[];
  cellAt: number[];
  own: Finding[];
  left: number; // selected columns, -1 for none
  right: number;
  activeCol: number;
  unit: string;
  editor?: ReactNode;
}) {
  return (
    <div
      role="row"
      aria-rowindex={index + 1}
      data-point={row?.id}
      className="absolute left-0 grid w-full"
      style={{
        contain: "layout style",
        top,
        height: rowHeight,
        gridTemplateColumns: template,
        background: activeCol >= 0 ? "color-mix(in srgb, var(--tide-wash) 55%, transparent)" : undefined,
      }}
    >
      <span role="gridcell" className="flex items-center justify-center border-b border-rule">
        {own.some((f) => f.severity !== "note") ? (
          <span title={own.map((f) => `${f.sentence} ${f.remedy}`).join("\n")}>
            <Mark kind={markOf(own[0]?.severity)} size={15} label={own[0]?.sentence} />
          </span>
        ) : (
          row && <RowMark id={row.id} />
        )}
      </span>
      {columns.map((column, col) => {
        const isActive = col === activeCol;
        const wrong = own.find((f) => f.subject.column === column);
        const inside = col >= left && col <= right;
        return (
          <div
            key={column}
            title={wrong ? `${wrong.sentence} ${wrong.remedy}` : undefined}
            role="gridcell"
            tabIndex={-1}
            data-col={column}
            aria-selected={inside}
            className={`grid-cell ${column === "name" ? "font-semibold" : column === "remark" || column === "unit" ? "" : "mono"} ${inside ? "selected" : ""} ${isActive ? "active" : ""} ${wrong ? wrong.severity : ""}`}
          >
            {isActive && editor ? (
              editor
            ) : row ? (
              row.cells[cellAt[col] ?? -1]
            ) : column === "name" ? (
              <span className="soft font-normal">new point…</span>
            ) : (
              ""
            )}
          </div>
        );
      })}
      {row ? (
        <Now id={row.id} unit={unit} />
      ) : (
        <span role="gridcell" aria-label="not read" className="border-b border-rule" />
      )}
    </div>
  );
});

/** Which column the rows are sorted by. */
interface Sorting {
  by: string;
  down: boolean;
}

const turned = (sort: Sorting | undefined, by: string): Sorting | undefined =>
  sort?.by !== by
    ? { by, down: by === "findings" }
    : sort.down === (by === "findings")
      ? { by, down: !sort.down }
      : undefined;
const arrow = (sort: Sorting | undefined, by: string) =>
  sort?.by === by ? <span aria-hidden>{sort.down ? "↓" : "↑"}</span> : "";
const noFilters: Record<string, string> = {};
const natural = new Intl.Collator("en", { numeric: true, sensitivity: "base" });
const ranks: Record<string, number> = { fault: 3, doubt: 2, note: 1 };

/** The rows in view: filtered by what stands in each column, and sorted. */
function useView(points: PointsView, sort: Sorting | undefined, filters: Record<string, string>): PointRow[] {
  return useMemo(() => {
    const tests = Object.entries(filters)
      .filter(([, text]) => text.trim())
      .map(([column, text]) => ({ at: points.columns.indexOf(column), test: matcher(text.trim()) }));
    let rows = points.rows;
    if (tests.length) rows = rows.filter((r) => tests.every((t) => t.test(r.cells[t.at] ?? "")));
    if (!sort) return rows;
    const worst = new Map<string, number>();
    if (sort.by === "findings")
      for (const f of points.findings)
        worst.set(f.subject.id, Math.max(worst.get(f.subject.id) ?? 0, ranks[f.severity] ?? 0));
    const at = points.columns.indexOf(sort.by);
    const keyed = rows.map((row) => ({ row, text: row.cells[at] ?? "", rank: worst.get(row.id) ?? 0 }));
    keyed.sort((a, b) => {
      if (sort.by === "findings") return a.rank - b.rank;
      if (sort.by === "address")
        return a.row.area.localeCompare(b.row.area) || a.row.start - b.row.start || natural.compare(a.text, b.text);
      return natural.compare(a.text, b.text);
    });
    if (sort.down) keyed.reverse();
    return keyed.map((k) => k.row);
  }, [points, sort, filters]);
}

/** A filter: a part of the text, =exactly, !not, < or > a number, or – for empty cells. */
function matcher(filter: string): (text: string) => boolean {
  const rest = filter.slice(1).trim().toLowerCase();
  const than = Number(rest);
  if (filter === "–" || filter === "-") return (text) => text === "";
  if (filter.startsWith("=")) return (text) => text.toLowerCase() === rest;
  if (filter.startsWith("!")) return (text) => !text.toLowerCase().includes(rest);
  if (/^[<>]/.test(filter) && rest && !Number.isNaN(than)) {
    const number = (text: string) => Number(text.replace(/[^0-9.eE-]/g, ""));
    return filter.startsWith("<")
      ? (text) => text !== "" && number(text) < than
      : (text) => text !== "" && number(text) > than;
  }
  return (text) => text.toLowerCase().includes(filter.toLowerCase());
}

/** The editor of a cell. It stays open, with the reason, while what it holds cannot be kept. */
function CellInput({
  text,
  choices,
  problem,
  label,
  onText,
  onCommit,
  onCancel,
}: {
  text: string;
  choices: string[];
  problem?: Problem;
  label: string;
  onText: (t: string) => void;
  onCommit: (move: [number, number], target?: Spot, all?: boolean) => Promise<void>;
  onCancel: () => void;
}) {
  const input = useRef<HTMLInputElement>(null);
  useLayoutEffect(() => {
    input.current?.focus();
    input.current?.setSelectionRange(text.length, text.length);
    // Once, when the editor opens.
    // oxlint-disable-next-line react/exhaustive-deps
  }, []);
  return (
    <>
      <input
        ref={input}
        aria-label={label}
        aria-invalid={!!problem}
        list={choices.length ? "cell-choices" : undefined}
        value={text}
        spellCheck={false}
        className="h-full w-full bg-sheet outline-none"
        onChange={(e) => onText(e.target.value)}
        onBlur={() => {
          if (!problem) void onCommit([0, 0]);
        }}
        onKeyDown={(e) => {
          if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) {
            e.preventDefault();
            void onCommit([0, 0], undefined, true);
          } else if (e.key === "Enter") {
            e.preventDefault();
            void onCommit([e.shiftKey ? -1 : 1, 0]);
          } else if (e.key === "Tab") {
            e.preventDefault();
            void onCommit([0, e.shiftKey ? -1 : 1]);
          } else if (e.key === "Escape") {
            e.preventDefault();
            onCancel();
          }
          e.stopPropagation();
        }}
      />
      {choices.length > 0 && (
        <datalist id="cell-choices">
          {choices.map((c) => (
            <option key={c} value={c}>
              {c}
            </option>
          ))}
        </datalist>
      )}
      {problem && (
        <div
          className="notice fixed z-30 mt-16 max-w-[380px] whitespace-normal shadow-lg"
          role="alert"
          data-code={problem.code}
        >
          <b>{problem.sentence}</b> {problem.do}
          <div className="small soft">Correct it, or give up with Esc.</div>
        </div>
      )}
    </>
  );
}

/** How old a value is that has not been read in time. */
function Age({ atMs }: { atMs: number }) {
  const { nowMs } = useLiveState();
  const seconds = Math.round((nowMs - atMs) / 1000);
  return seconds > 1 ? (
    <span className="small" style={{ color: "var(--doubt-text)" }}>
      {seconds < 120 ? `${seconds} s` : `${Math.round(seconds / 60)} min`} old
    </span>
  ) : null;
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
    <span
      role="gridcell"
      className="mono sticky right-0 flex items-center justify-end gap-2 overflow-hidden border-b border-l border-rule bg-paper px-3 whitespace-nowrap"
      data-now={id}
      title={live?.reason}
    >
      {!read ? (
        <span className="soft">{live?.quality === "bad" ? "cannot be read" : "not read yet"}</span>
      ) : live.quality === "bad" ? (
        <span className="soft">
          — <s>{shown(live)}</s>
        </span>
      ) : (
        <>
          {live.quality === "doubtful" && <Age atMs={live.atMs} />}
          <span key={live.changedMs} className="fresh rounded px-1">
            {shown(live)}
          </span>
          {unit && <span className="soft">{unit}</span>}
        </>
      )}
    </span>
  );
}
