import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { get, post, problemOf, useSite } from "../api/client";
import type { NamedStartView, NamedView, NameProof, SpellRule, NotedView, Problem } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { Empty, ProblemNotice } from "../shared/ui";

/** How many rows are drawn at once. */
const mostRows = 2000;

/** A column of names from somebody's list is proved at a device, one by one, and goes back with what became of each. */
export function NamesPage() {
  const { device: id } = useParams({ strict: false });
  const { data: site } = useSite();
  const { data: start } = useQuery({
    queryKey: ["names", id],
    queryFn: () => get<NamedStartView>(`/api/devices/${id}/column`),
  });
  const [typed, setText] = useState("");
  const [file, setFile] = useState<{ name: string; text: string }>();
  const text = file?.text ?? typed;
  const [changed, setChanged] = useState<SpellRule>({});
  const [view, setView] = useState<NamedView>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const [only, setOnly] = useState(false);
  const [whole, setWhole] = useState(false);
  const device = site?.devices.find((d) => d.id === id);
  if (!site || !start) return <p className="soft p-8">Reading the site…</p>;
  if (!device || !start.can)
    return (
      <Empty title="This device cannot be asked for names">
        Its protocol has numbers in place of names, or no link asks it.{" "}
        <Link to="/points" className="underline">
          All maps
        </Link>
      </Empty>
    );
  const rule: SpellRule = { before: start.before, ...changed };
  const prove = async () => {
    setBusy(true);
    setProblem(undefined);
    try {
      setView(await post<NamedView>(`/api/devices/${id}/column`, { text, rule, all: whole }));
    } catch (error) {
      setProblem(problemOf(error));
    } finally {
      setBusy(false);
    }
  };
  const add = () =>
    attempt(async () => {
      say((await post<NotedView>(`/api/devices/${id}/column/points`, { text, rule })).said);
    });
  const proofs = view?.proofs ?? [];
  const wrong = proofs.filter((p) => p.verdict !== "there");
  const missing = wrong.filter((p) => p.verdict !== "otherwise");
  const unlike = wrong.length - missing.length;
  const beside = view?.beside ?? [];
  const shown = (only ? wrong : proofs).concat(beside);
  const copy = () =>
    attempt(async () => {
      await navigator.clipboard.writeText(column(proofs.concat(beside)));
      say("The column is copied, with what became of each name.");
    });
  const field = (key: keyof SpellRule, label: string, more: string) => (
    <label className="small soft block">
      {label}
      <input
        className="input mono mt-1"
        value={rule[key] ?? ""}
        placeholder={more}
        spellCheck={false}
        onChange={(e) => setChanged({ ...changed, [key]: e.target.value })}
      />
    </label>
  );
  return (
    <div className="flex min-h-0 flex-1">
      <form
        className="flex w-[340px] flex-none flex-col gap-3 overflow-y-auto border-r border-rule p-4"
        onSubmit={(e) => {
          e.preventDefault();
          void prove();
        }}
      >
        <h2>
          Names at{" "}
          <Link to="/points/$device" params={{ device: device.id }} className="underline">
            {device.name}
          </Link>
        </h2>
        <p className="small soft">
          Paste a column of names or identifiers, one to a line; a type may stand behind each, in the next column, and
          where a device knows numbers alone, the number to which the name is bound. Each is looked for in the device.
        </p>
        <label className="small soft block">
          Names
          <textarea
            aria-label="Names"
            className="input mono mt-1 h-[220px] whitespace-pre"
            value={file ? `from ${file.name}` : typed}
            disabled={!!file}
            spellCheck={false}
            onChange={(e) => setText(e.target.value)}
            placeholder={"Tank11.Oxygen\nTank11.Temperature"}
          />
        </label>
        <div className="small flex items-center gap-3">
          <label className="button tight">
            From a file…
            <input
              type="file"
              className="sr-only"
              accept=".txt,.csv,.tsv,.xml"
              onChange={(e) => {
                const chosen = e.target.files?.[0];
                e.target.value = "";
                if (chosen)
                  void chosen.text().then((content) => {
                    setFile({ name: chosen.name, text: content });
                    setWhole(true);
                  });
              }}
            />
          </label>
          {file ? (
            <button type="button" className="underline" onClick={() => setFile(undefined)}>
              Leave {file.name}
            </button>
          ) : (
            <span className="soft">a column, or a file that says what the device has</span>
          )}
        </div>
        <fieldset className="flex flex-col gap-2">
          <legend className="font-semibold">Where the list writes names otherwise</legend>
          {field("before", "Goes before each name", "nothing")}
          <div className="flex gap-2">
            {field("from", "Its separator", "none")}
            {field("to", "Here it is", "none")}
          </div>
          {field("behind", "Goes behind each name", "nothing")}
        </fieldset>
        <label className="small flex items-start gap-2">
          <input type="checkbox" className="mt-[3px]" checked={whole} onChange={(e) => setWhole(e.target.checked)} />
          <span>
            Compare with all that the device has: what is not in the list, and other units, ranges and access than a
            file says
          </span>
        </label>
        {problem && <ProblemNotice problem={problem} />}
        <button type="submit" className="button main" disabled={!text.trim() || busy}>
          {busy ? "Looking…" : "Prove them"}
        </button>
      </form>
      <section className="flex min-w-0 flex-1 flex-col" aria-label="What became of them">
        {!view ? (
          <Empty title="Nothing is proved yet">
            What is there comes with its type and its value now; what is not, with the reason.
          </Empty>
        ) : (
          <>
            <div className="flex flex-wrap items-center gap-3 border-b border-rule p-3">
              <p className="font-semibold" role="status" data-testid="names-summary">
                {missing.length === 0
                  ? `All ${proofs.length} names are there.`
                  : `${proofs.length - missing.length} of ${proofs.length} names are there, ${missing.length} ${missing.length === 1 ? "is" : "are"} not: ${said(view)}.`}
                {unlike > 0 && ` ${unlike} of them ${unlike === 1 ? "is" : "are"} otherwise than the list says.`}
                {view.besideMany > 0 && ` The device has ${view.besideMany} more, which are not in the list.`}
              </p>
              <span className="small soft">{(view.tookMs / 1000).toFixed(1)} s</span>
              <span className="ml-auto" />
              <label className="small flex items-center gap-1">
                <input type="checkbox" checked={only} onChange={(e) => setOnly(e.target.checked)} /> only what is not
                there
              </label>
              <button type="button" className="button tight" onClick={() => void copy()}>
                Copy the column back
              </button>
              <a
                className="button tight"
                download={`names ${device.name}.tsv`}
                href={
                  "data:text/tab-separated-values;charset=utf-8," + encodeURIComponent(column(proofs.concat(beside)))
                }
              >
                As a file
              </a>
              <button type="button" className="button main tight" onClick={() => void add()}>
                Make points of those that are there
              </button>
            </div>
            {(view.aside || view.unlisted) && (
              <p className="small soft px-3 pt-2">
                {view.aside} {view.unlisted}
              </p>
            )}
            <div className="min-h-0 flex-1 overflow-auto">
              <table className="rows">
                <thead>
                  <tr>
                    <th>Line</th>
                    <th>Name</th>
                    <th>What became of it</th>
                    <th>Type</th>
                    <th className="text-right">Now</th>
                    <th>There as</th>
                  </tr>
                </thead>
                <tbody>
                  {shown.slice(0, mostRows).map((p) => (
                    <tr
                      key={`${p.line} ${p.is}`}
                      data-verdict={p.verdict}
                      style={p.verdict === "there" || !p.line ? undefined : { background: wash(p) }}
                    >
                      <td className="mono soft">{p.line || ""}</td>
                      <td className="mono break-all">{p.text}</td>
                      <td>
                        <span className="flex items-start gap-2">
                          <Mark kind={markOf(p)} size={15} />
                          <span>
                            <span className="font-semibold">{p.verdict}</span>
                            {p.sentence && <span className="small soft block">{p.sentence}</span>}
                          </span>
                        </span>
                      </td>
                      <td className="mono">{p.type}</td>
                      <td className="mono text-right">{p.shown}</td>
                      <td className="mono small break-all">
                        {p.is === p.text || p.is === ruled(rule, p.text) ? "" : p.is}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {shown.length > mostRows && (
                <p className="small soft p-3">and {shown.length - mostRows} more, which are in the file.</p>
              )}
            </div>
          </>
        )}
      </section>
    </div>
  );
}

/** What is there otherwise than a list says, or beside it, is a doubt; what is not there a fault. */
const markOf = (p: NameProof) =>
  p.verdict === "there" ? "good" : p.verdict === "otherwise" || !p.line ? "doubt" : "fault";
const wash = (p: NameProof) => (markOf(p) === "doubt" ? "var(--doubt-wash)" : "var(--fault-wash)");

/** A name as the rule makes it. */
const ruled = (rule: SpellRule, name: string) =>
  (rule.before ?? "") + (rule.from ? name.replaceAll(rule.from, rule.to ?? "") : name) + (rule.behind ?? "");

/** How many have each verdict that is not well, in words. */
function said(view: NamedView): string {
  return Object.entries(view.counts)
    .filter(([verdict]) => verdict !== "there" && verdict !== "otherwise")
    .map(([verdict, n]) => `${n} ${verdict}`)
    .join(", ");
}

/** The column as it goes back: a line for each name, with what became of it. */
const column = (proofs: NameProof[]) =>
  ["name\tverdict\ttype\tvalue now\tthere as\tremark"]
    .concat(proofs.map((p) => [p.text, p.verdict, p.type, p.shown, p.is, p.sentence].map(cell).join("\t")))
    .join("\n") + "\n";

/** A cell that no program takes for a formula. */
const cell = (text: string) => (/^[=+\-@]/.test(text) && isNaN(Number(text)) ? "'" + text : text);
