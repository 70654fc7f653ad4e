import { memo, useLayoutEffect, useRef, type ReactNode } from "react";
import { useLive, useLiveState } from "../api/live";
import type { Finding, PointRow, Problem } from "../api/types.gen";
import { Mark, markOf } from "../shared/Mark";
import { shown } from "../shared/ui";

export const rowHeight = 30;

/** A cell of the grid, by its place in view. */
export interface Spot {
  row: number;
  col: number;
}

/** One row. It is drawn anew only when something in it changed, so that scrolling stays cheap. */
export const RowView = memo(function RowView({
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
        const face = column === "name" ? "font-semibold" : column === "remark" || column === "unit" ? "" : "mono";
        const marks = [inside && "selected", isActive && "active", wrong?.severity].filter(Boolean).join(" ");
        return (
          <div
            key={column}
            title={wrong ? `${wrong.sentence} ${wrong.remedy}` : undefined}
            role="gridcell"
            tabIndex={-1}
            data-col={column}
            aria-selected={inside}
            className={`grid-cell ${face} ${marks}`}
          >
            {isActive && editor ? (
              editor
            ) : row ? (
              column === "address" ? (
                <Place text={row.cells[cellAt[col] ?? -1] ?? ""} />
              ) : (
                row.cells[cellAt[col] ?? -1]
              )
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

/** An address. Of a long one its end is shown: names of a device begin alike. */
function Place({ text }: { text: string }) {
  return text.length < 24 ? (
    text
  ) : (
    <span className="place" title={text}>
      <bdi dir="ltr">{text}</bdi>
    </span>
  );
}

/** The editor of a cell. It stays open, with the reason, while what it holds cannot be kept. */
export function CellInput({
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
          {live.granted && (
            <sup className="soft" title={live.granted}>
              †
            </sup>
          )}
        </>
      )}
    </span>
  );
}
