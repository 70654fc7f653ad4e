import { useId, useState } from "react";

/** A field that is typed into, and taken as it stands. */
export function Typed({
  label,
  value,
  onChange,
  mono,
  placeholder,
  help,
  type,
}: {
  label: string;
  value: string;
  onChange: (text: string) => void;
  mono?: boolean;
  placeholder?: string;
  help?: string;
  type?: string;
}) {
  return (
    <label className="small soft block min-w-0" title={help}>
      {label}
      <input
        className={"input mt-1 " + (mono ? "mono" : "")}
        aria-label={label}
        value={value}
        type={type}
        placeholder={placeholder}
        spellCheck={false}
        onChange={(e) => onChange(e.target.value)}
      />
    </label>
  );
}

/**
 * A number: what is typed stays as it is typed, and what is none is said and not taken. It is shown divided by the
 * part, such as 1000 where seconds are typed and milliseconds kept.
 */
export function TypedNumber({
  label,
  value,
  onChange,
  least = 1,
  most,
  part = 1,
  open,
  placeholder,
  help,
}: {
  label: string;
  value: number | undefined;
  /** Takes a whole number, or nothing where that may be left open. */
  onChange: (n: number | undefined) => void;
  least?: number;
  most: number;
  part?: number;
  open?: boolean;
  placeholder?: string;
  help?: string;
}) {
  const [text, setText] = useState<string>();
  const id = useId();
  const shown = value === undefined ? "" : String(value / part);
  const read = (t: string): { n?: number } | undefined => {
    if (!t.trim()) return open ? {} : undefined;
    const n = Number(t.trim().replace(",", ".")) * part;
    return n >= least && n <= most && (part > 1 || Number.isInteger(n)) ? { n: Math.round(n) } : undefined;
  };
  const wrong = text !== undefined && !read(text);
  return (
    <label className="small soft block min-w-0" title={help}>
      {label}
      <input
        className="input mono mt-1"
        aria-label={label}
        aria-invalid={wrong}
        aria-describedby={wrong ? id : undefined}
        value={text ?? shown}
        placeholder={placeholder}
        spellCheck={false}
        onChange={(e) => {
          setText(e.target.value);
          const got = read(e.target.value);
          if (got) onChange(got.n);
        }}
        onBlur={() => wrong || setText(undefined)}
      />
      {wrong && (
        <span id={id} role="alert" className="block w-max max-w-[226px] text-fault">
          {part > 1 ? "Give a number" : "Give a whole number"} from {least / part} to {most / part}
          {shown ? `; ${shown} counts until then.` : "."}
        </span>
      )}
    </label>
  );
}

export function Chosen({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: string;
  options: { value: string; title: string }[];
  onChange: (value: string) => void;
}) {
  return (
    <label className="small soft block min-w-0">
      {label}
      <select className="input mt-1" aria-label={label} value={value} onChange={(e) => onChange(e.target.value)}>
        {options.map((o) => (
          <option key={o.value} value={o.value}>
            {o.title}
          </option>
        ))}
      </select>
    </label>
  );
}
