import { Dialog as Radix, Tooltip } from "radix-ui";
import { useEffect, useId, useRef, useState, type ReactNode } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { newId, post, problemOf, useEdit, useSite } from "../api/client";
import { linkOf } from "../api/site";
import type { Finding, Fix, Live, NotedView, Problem } from "../api/types.gen";
import { Mark, markOf } from "./Mark";
import { attempt, say } from "./toast";

/** Says what happened, where, and what to do. */
export function ProblemNotice({ problem }: { problem: Problem }) {
  return (
    <div className="notice mt-2" role="alert" data-code={problem.code}>
      {problem.where && <div className="small soft">{problem.where}</div>}
      <b>{problem.sentence}</b> {problem.do}
    </div>
  );
}

/**
 * One field that is edited in place: it is sent on Enter or on leaving it. If
 * that fails, what was typed stays, with the reason under it.
 */
export function Field({
  label,
  value,
  onCommit,
  unit,
  options,
  mono,
  placeholder,
  help,
  onBegin,
}: {
  label: string;
  value: string;
  onCommit: (text: string) => Promise<unknown>;
  onBegin?: () => void;
  unit?: string;
  options?: { value: string; title: string }[];
  mono?: boolean;
  placeholder?: string;
  /** A sentence that is shown where the label is pointed at. */
  help?: string;
}) {
  const [text, setText] = useState(value);
  const [problem, setProblem] = useState<Problem>();
  const dirty = useRef(false);
  const focused = useRef(false);
  const sent = useRef<string>(undefined); // what is on its way: Enter and leaving the field say the same twice
  const id = useId();
  // What another window changes is shown on leaving the field, not under the
  // hands of whoever has begun to select and type.
  useEffect(() => {
    if (!dirty.current && !focused.current) setText(value);
  }, [value]);
  const commit = async (next: string) => {
    if (next === sent.current) return;
    if (next === value) {
      dirty.current = false;
      setProblem(undefined);
      return;
    }
    sent.current = next;
    try {
      await onCommit(next);
      dirty.current = false;
      setProblem(undefined);
    } catch (error) {
      setProblem(problemOf(error));
    }
    sent.current = undefined;
  };
  const shared = {
    id,
    className: "input " + (mono ? "mono" : ""),
    "aria-invalid": !!problem,
    onFocus: () => {
      focused.current = !options;
      if (!dirty.current) onBegin?.();
    },
  };
  return (
    <div className="grid grid-cols-[112px_1fr] items-center gap-x-3 py-1">
      <label htmlFor={id} className="small soft" title={help}>
        {label}
        {unit ? `, ${unit}` : ""}
      </label>
      {options ? (
        <select
          {...shared}
          value={text}
          onChange={(e) => {
            setText(e.target.value);
            void commit(e.target.value);
          }}
        >
          {options.map((o) => (
            <option key={o.value} value={o.value}>
              {o.title}
            </option>
          ))}
        </select>
      ) : (
        <input
          {...shared}
          value={text}
          placeholder={placeholder}
          spellCheck={false}
          onChange={(e) => {
            dirty.current = true;
            setText(e.target.value);
          }}
          onBlur={() => {
            focused.current = false;
            if (dirty.current) void commit(text);
            else setText(value);
          }}
          onKeyDown={(e) => {
            if (e.key === "Enter" && dirty.current) void commit(text);
            if (e.key === "Escape" && dirty.current) {
              e.stopPropagation();
              dirty.current = false;
              setText(value);
              setProblem(undefined);
            }
          }}
        />
      )}
      {problem && (
        <div className="col-span-2">
          <ProblemNotice problem={problem} />
        </div>
      )}
    </div>
  );
}

/** Switches an object on or off. */
export function Switched({
  off,
  onBegin,
  onCommit,
}: {
  off?: boolean;
  onBegin?: () => void;
  /** Takes what stands in the object: true, or nothing for on. */
  onCommit: (off: true | undefined) => Promise<unknown>;
}) {
  return (
    <Field
      label="Switched"
      value={off ? "off" : "on"}
      options={[
        { value: "on", title: "on" },
        { value: "off", title: "off" },
      ]}
      onBegin={onBegin}
      onCommit={(text) => onCommit(text === "off" || undefined)}
    />
  );
}

/** A dialog: only for what moves real equipment or cannot be taken back. */
export function Dialog({
  open,
  onClose,
  title,
  children,
  wide,
}: {
  open: boolean;
  onClose: () => void;
  title: string;
  children: ReactNode;
  wide?: boolean;
}) {
  return (
    <Radix.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Radix.Portal>
        <Radix.Overlay className="overlay" />
        <Radix.Content
          className="dialog"
          style={wide ? { width: "min(980px, 94vw)" } : undefined}
          aria-describedby={undefined}
        >
          <Radix.Title className="mb-3 text-[17px] font-bold">{title}</Radix.Title>
          {children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

export function Tip({ text, children }: { text: ReactNode; children: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content className="tip" sideOffset={5}>
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

/** One finding, the plain sentence first. */
export function FindingCard({
  finding,
  chosen,
  onClick,
}: {
  finding: Finding;
  chosen?: boolean;
  onClick?: () => void;
}) {
  return (
    <button
      type="button"
      onClick={onClick}
      data-finding={finding.code}
      data-severity={finding.severity}
      className="card mb-2 flex w-full gap-2 p-3 text-left"
      style={chosen ? { boxShadow: "0 0 0 2px var(--tide)" } : undefined}
    >
      <Mark kind={markOf(finding.severity)} />
      <span className="min-w-0">
        <b className="block break-words">{finding.title}</b>
        <span className="block break-words">{finding.sentence}</span>
        {chosen && (
          <>
            <span className="small soft mt-1 block">{finding.remedy}</span>
            {finding.evidence.map((line) => (
              <span key={line} className="mono soft mt-1 block break-words">
                {line}
              </span>
            ))}
            <span className="small soft mt-1 block">
              {finding.sure >= 1 ? "sure" : `${Math.round(finding.sure * 100)} % sure`} · seen {finding.count}× ·{" "}
              {finding.code}
            </span>
          </>
        )}
      </span>
    </button>
  );
}

/** What Ferry can set itself to put a finding right. */
export function SettingFixes({ finding }: { finding: Finding }) {
  const { data: site } = useSite();
  const edit = useEdit();
  const client = useQueryClient();
  const fixes = (finding.fixes ?? []).filter((f) => f.setting ?? f.learned ?? f.crossing);
  if (!fixes.length || !site) return null;
  const apply = (fix: Fix) =>
    attempt(async () => {
      if (fix.learned) {
        const noted = await post<NotedView>(
          `/api/links/${fix.learned}/noted${fix.manner ? `?manner=${fix.manner}` : ""}`,
          fix.bears ?? {},
        );
        await client.invalidateQueries({ queryKey: ["site"] });
        say(`${noted.said} Ctrl Z takes it back.`);
        return;
      }
      if (fix.crossing) {
        const id = newId();
        await edit(fix.title, [{ kind: "crossing", id, base: 0, after: { id, ...fix.crossing } }]);
        say(`Done: ${fix.title}. Ctrl Z takes it back. It carries once crossings are let to.`);
        return;
      }
      const link = linkOf(site, fix.setting?.link);
      if (!link || !fix.setting) return;
      const { faceToFace: _f, facing: _g, standing: _s, lacking: _l, ...after } = link;
      await edit(fix.title, [
        {
          kind: "link",
          id: link.id,
          base: site.versions["link:" + link.id] ?? 0,
          after: { ...after, settings: { ...after.settings, [fix.setting.key]: fix.setting.will } },
        },
      ]);
      say(`Done: ${fix.title}. Ctrl Z takes it back.`);
    });
  return (
    <div className="-mt-1 mb-3 flex flex-wrap gap-2">
      {fixes.map((fix) => (
        <button
          key={fix.title}
          type="button"
          className="button tight"
          data-fix={fix.manner || (fix.crossing ? "crossing" : undefined)}
          onClick={() => void apply(fix)}
        >
          {fix.title}
          {fix.setting ? `, in place of ${fix.setting.was} ms` : ""}
        </button>
      ))}
    </div>
  );
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="mx-auto mt-16 max-w-md text-center">
      <h2 className="mb-2">{title}</h2>
      <div className="soft mb-4">{children}</div>
    </div>
  );
}

/** Prints a time of day with milliseconds. */
/** Day and minute, for what stays on record. */
export const clockDay = (ms: number) =>
  new Date(ms).toLocaleString("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

export function clock(ms: number): string {
  const d = new Date(ms);
  const two = (n: number, width = 2) => String(n).padStart(width, "0");
  return `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}.${two(d.getMilliseconds(), 3)}`;
}

/** What a value shows, numbers with a thin space between thousands. */
export function shown(live: Live): string {
  if (typeof live.value !== "number") return live.shown;
  return live.shown.replace(
    /^(-?)(\d{5,})/,
    (_all, sign: string, digits: string) => sign + digits.replace(/\B(?=(\d{3})+$)/g, "\u2009"),
  );
}

/** Prints milliseconds with one decimal. */
export const millis = (n: number) => `${n < 100 ? n.toFixed(1) : n.toFixed(0)}\u2009ms`;
