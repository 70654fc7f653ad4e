/** How many characters at the end of a long name stay in view: what tells names apart mostly stands there. */
const kept = 12;

/** A name that is cut in its middle where there is no room for all of it. */
export function LongName({ name, className }: { name: string; className?: string }) {
  if (name.length <= 14)
    return (
      <span className={"block truncate " + (className ?? "")} title={name}>
        {name}
      </span>
    );
  const blank = name.indexOf(" ", name.length - kept);
  const cut = blank > 0 && blank < name.length - 3 ? blank : name.length - kept;
  return (
    <span className={"flex min-w-0 " + (className ?? "")} title={name}>
      <span className="truncate">{name.slice(0, cut)}</span>
      <span className="flex-none whitespace-pre">{name.slice(cut)}</span>
    </span>
  );
}

/** A name cut in its middle to so many characters, for where only text can stand. */
export function shortened(name: string, most: number) {
  if (name.length <= most) return name;
  const end = Math.min(kept, Math.floor(most / 2));
  const blank = name.indexOf(" ", name.length - end);
  const tail = name.slice(blank > 0 && blank < name.length - 2 ? blank : name.length - end);
  return name.slice(0, Math.max(1, most - tail.length - 1)).trimEnd() + "…" + tail;
}
