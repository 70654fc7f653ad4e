/** How many characters at the end of a long name stay in view: what tells names apart mostly stands there. */
const kept = 12;

/** A name that is cut in its middle where there is no room for all of it. */
export function LongName({ name, className }: { name: string; className?: string }) {
  if (name.length <= kept + 6) return <span className={"block truncate " + (className ?? "")} title={name}>{name}</span>;
  const blank = name.indexOf(" ", name.length - kept);
  const cut = blank > 0 && blank < name.length - 3 ? blank : name.length - kept;
  return (
    <span className={"flex min-w-0 " + (className ?? "")} title={name}>
      <span className="truncate">{name.slice(0, cut)}</span>
      <span className="flex-none whitespace-pre">{name.slice(cut)}</span>
    </span>
  );
}
