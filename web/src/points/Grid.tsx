import { useQueryClient } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useDeferredValue, useEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";
import { flushSync } from "react-dom";
import { post, ProblemError, problemOf, useEdit, mapPath } from "../api/client";
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
import { useSlots } from "../shared/slots";
import { attempt, say } from "../shared/toast";
import { CellInput, rowHeight, RowView, type Spot } from "./GridRow";
import { inView, turned, type Sorting } from "./rows";
import { changes, pasted, tableOf, textOf, type Box } from "./sheet";

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
  band: "Deadband",
  told: "Told in",
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
  band: 76,
  told: 78,
  remark: 160,
};
/** Of an address that is a name. */
const named = 230;

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
  const filter = useDeferredValue(filtering ? filters : noFilters);
  const rows = useMemo(() => inView(points, sort, filter), [points, sort, filter]);
  const ordered = sort === undefined && rows.length === points.rows.length;
  const cellAt = useMemo(() => columns.map((c) => points.columns.indexOf(c)), [columns, points.columns]);
  const unitAt = points.columns.indexOf("unit");
  const cellText = (row: PointRow, col: number) => row.cells[cellAt[col] ?? -1] ?? "";
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
  const addressWidth = useMemo(() => {
    const at = points.columns.indexOf("address");
    const longest = points.rows.slice(0, 500).reduce((n, r) => Math.max(n, r.cells[at]?.length ?? 0), 0);
    return points.areas.length ? Math.min(named, Math.max(widths.address ?? 90, 8 * longest + 18)) : named;
  }, [points]);
  const wide = (c: string) => (c === "address" ? addressWidth : (widths[c] ?? 90));
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
  // The keys go to the map, except where somebody types elsewhere already.
  const takeKeys = () => {
    const typed = document.activeElement?.closest("input, textarea, select, [role=dialog]");
    if (!typed || scroll.current?.contains(typed)) scroll.current?.focus({ preventScroll: true });
  };
  useEffect(takeKeys, []);

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
    into: Box,
    text: (row: number, col: number, down: number, across: number) => string | undefined,
  ): CellEdit[] => {
    const has = (row: number, col: number) => (rows[row] ? cellText(rows[row], col) : "");
    return changes(into, { rows: rows.length, cols: columns.length }, has, text).flatMap((c) => {
      const row = rows[c.row];
      return row ? [{ point: row.id, column: columns[c.col] ?? "", text: c.text, base: row.version }] : [];
    });
  };

  const begin = (text?: string) => {
    const row = rowAt(active.row);
    if (row) setTyping({ text: text ?? cellText(row, active.col), version: row.version, id: row.id });
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
      } else if (row && typing.text !== cellText(row, active.col))
        await send(`changed ${column} of ${row.cells[0]}`, [
          { point: row.id, column, text: typing.text, base: typing.version },
        ]);
      setTyping(undefined);
      takeKeys();
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
      const target = rowAt(active.row) && pasted(tableOf(text), box, rows.length);
      if (!target) return onTable(text);
      const cells = cellsOf(target.into, (_row, _col, down, across) => target.text(down, across));
      if (cells.length) await send(`pasted ${cells.length} cells`, cells);
      return undefined;
    });
  const fillDown = () =>
    attempt(async () => {
      const first = rows[box.top];
      const cells = cellsOf(box, (_row, col) => first && cellText(first, col));
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
          textOf(
            rows
              .slice(box.top, box.bottom + 1)
              .map((r) => columns.slice(box.left, box.right + 1).map((_c, i) => cellText(r, box.left + i))),
          ),
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

const arrow = (sort: Sorting | undefined, by: string) =>
  sort?.by === by ? <span aria-hidden>{sort.down ? "↓" : "↑"}</span> : "";
const noFilters: Record<string, string> = {};
