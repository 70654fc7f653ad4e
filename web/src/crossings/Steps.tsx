import { useState } from "react";
import type { CrossingView, Step } from "../api/types.gen";
import { attempt } from "../shared/toast";
import { number, whole } from "../shared/numbers";
import { Field } from "../shared/ui";
import { factor, readTable, tableText } from "./rules";

const kinds: { do: Step["do"]; title: string; help: string }[] = [
  { do: "scale", title: "scale", help: "× a factor + an offset" },
  { do: "unit", title: "convert the unit", help: "by the names of the units" },
  { do: "clamp", title: "keep within", help: "bounds beyond which it stands still" },
  { do: "not", title: "turn upside down", help: "on becomes off, 1 becomes 0" },
  { do: "bit", title: "take a bit", help: "out of a word, from bit 0" },
  { do: "put", title: "put into a bit", help: "of the word that stands in the target" },
  { do: "pack", title: "pack into bits", help: "every source becomes one bit of a word" },
  { do: "table", title: "look up in a table", help: "one state for another" },
  { do: "count", title: "make it a total", help: "a counter that begins anew, without its steps back" },
  { do: "reread", title: "read the octets anew", help: "with another sign, type or order of words" },
  { do: "text", title: "cut or fill a text", help: "to so many characters" },
  { do: "formula", title: "formula", help: "over the sources a, b, c" },
];

/** What happens on the way, step after step. */
export function Steps({
  crossing,
  onBegin,
  onChange,
}: {
  crossing: CrossingView;
  onBegin: () => void;
  onChange: (what: string, way: Step[]) => Promise<unknown>;
}) {
  const way = crossing.way ?? [];
  const [adding, setAdding] = useState("");
  const set = (i: number, patch: Partial<Step>) =>
    onChange(
      "changed the way",
      way.map((s, j) => (j === i ? { ...s, ...patch } : s)),
    );
  const move = (i: number, by: number) =>
    attempt(() => {
      onBegin();
      const next = [...way];
      const [step] = next.splice(i, 1);
      if (step) next.splice(i + by, 0, step);
      return onChange("changed the order of the way", next);
    });
  return (
    <>
      <ol>
        {way.map((step, i) => (
          <li key={i} className="my-1 rounded-[8px] border border-rule px-2 py-1" data-step={step.do}>
            <div className="flex items-center gap-2">
              <span className="small soft">{i + 1}</span>
              <b className="min-w-0 flex-1 truncate" title={crossing.steps[i]}>
                {crossing.steps[i]}
              </b>
              {i > 0 && (
                <button type="button" className="button tight" onClick={() => void move(i, -1)}>
                  Earlier
                </button>
              )}
              <button
                type="button"
                className="button tight"
                onClick={() =>
                  void attempt(() => {
                    onBegin();
                    return onChange(
                      "took a step off the way",
                      way.filter((_, j) => j !== i),
                    );
                  })
                }
              >
                Take off
              </button>
            </div>
            <StepFields step={step} onBegin={onBegin} onChange={(patch) => set(i, patch)} />
          </li>
        ))}
      </ol>
      <div className="grid grid-cols-[112px_1fr] items-center gap-x-3 py-1">
        <span className="small soft">{way.length ? "And then" : "Besides"}</span>
        <select
          className="input"
          aria-label="Add a step"
          value={adding}
          onChange={(e) => {
            const kind = e.target.value as Step["do"];
            setAdding("");
            onBegin();
            void attempt(() => onChange("added a step to the way", [...way, fresh(kind)]));
          }}
        >
          <option value="">add a step…</option>
          {kinds.map((k) => (
            <option key={k.do} value={k.do} title={k.help}>
              {k.title}
            </option>
          ))}
        </select>
      </div>
    </>
  );
}

/** A step as it begins. */
function fresh(kind: Step["do"]): Step {
  switch (kind) {
    case "scale":
      return { do: kind, factor: 1 };
    case "clamp":
      return { do: kind, least: 0, most: 100 };
    case "table":
      return {
        do: kind,
        table: [
          { from: 0, to: 0 },
          { from: 1, to: 1 },
        ],
      };
    case "text":
      return { do: kind, length: 16 };
    case "formula":
      return { do: kind, formula: "a" };
    default:
      return { do: kind };
  }
}

const optional = (text: string) => (text.trim() === "" ? undefined : number(text));

function StepFields({
  step,
  onBegin,
  onChange,
}: {
  step: Step;
  onBegin: () => void;
  onChange: (patch: Partial<Step>) => Promise<unknown>;
}) {
  const text = (
    label: string,
    value: string | number | undefined,
    read: (text: string) => Partial<Step>,
    placeholder?: string,
    help?: string,
  ) => (
    <Field
      label={label}
      mono
      value={value === undefined ? "" : String(value)}
      placeholder={placeholder}
      help={help}
      onBegin={onBegin}
      onCommit={async (typed) => onChange(read(typed))}
    />
  );
  switch (step.do) {
    case "scale":
      return (
        <>
          {text("Factor", step.factor, (t) => ({ factor: factor(t) }), "× 1")}
          {text("Offset", step.offset, (t) => ({ offset: factor(t) }), "0")}
        </>
      );
    case "unit":
      return (
        <>
          {text("From", step.from, (t) => ({ from: t.trim() }), "the unit of the source")}
          {text("To", step.to, (t) => ({ to: t.trim() }), "the unit of the target")}
        </>
      );
    case "clamp":
      return (
        <>
          {text("At least", step.least, (t) => ({ least: optional(t) }), "no bound")}
          {text("At most", step.most, (t) => ({ most: optional(t) }), "no bound")}
        </>
      );
    case "bit":
    case "put":
    case "pack":
      return text(step.do === "pack" ? "From bit" : "Bit", step.bit ?? 0, (t) => ({ bit: whole(t) }));
    case "table":
      return text(
        "Table",
        tableText(step.table, step.else),
        (t) => readTable(t),
        "3 = 2, 0 = 1, else 4",
        "What is in no row, and has no else, is not carried.",
      );
    case "count":
      return text(
        "Begins anew at",
        step.modulus || "",
        (t) => ({ modulus: factor(t) }),
        "as its type",
        "The number that comes after the greatest: 65536 for 16 bits.",
      );
    case "reread":
      return (
        <>
          {text("As type", step.type, (t) => ({ type: t.trim() }), "int16, float32…")}
          {text("Order", step.order, (t) => ({ order: t.trim().toUpperCase() }), "ABCD")}
        </>
      );
    case "text":
      return (
        <>
          {text("Characters", step.length, (t) => ({ length: whole(t) }))}
          {text("Filled with", step.fill, (t) => ({ fill: t }), "nothing")}
        </>
      );
    case "formula":
      return (
        <>
          {text(
            "Formula",
            step.formula,
            (t) => ({ formula: t }),
            "(a + b) / 2",
            "Over the sources a, b, c: + − * / % ** and or not, == < >, a ? b : c, and functions as max(a, b), abs(a), " +
              "round(a), bit(a, 3), string(a), float(a), trim(a).",
          )}
          {text("And back", step.back, (t) => ({ back: t }), "no way back")}
        </>
      );
    default:
      return null;
  }
}
