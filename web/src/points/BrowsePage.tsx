import { useMutation } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { createContext, useCallback, useContext, useEffect, useState } from "react";
import { post, problemOf, useSite } from "../api/client";
import type { EntryView, FolderView, NodesRequest, NotedView } from "../api/types.gen";
import { attempt, say } from "../shared/toast";
import { steer } from "../shared/tree";
import { Empty, ProblemNotice } from "../shared/ui";

/** A choice: a node by its address, or a folder by the way to it. */
interface Chosen {
  address: string;
  way: string;
  folder: boolean;
}

/** What became points since the folders were looked into. */
const Made = createContext<Chosen[]>([]);

/** What a device has, folder by folder or by words of its names; what is chosen becomes points. */
export function BrowsePage() {
  const { device: id } = useParams({ strict: false });
  const { data: site } = useSite();
  const [chosen, setChosen] = useState<Map<string, Chosen>>(new Map());
  const [rule, setRule] = useState({ prefix: "", separator: " ", parts: 2 });
  const [words, setWords] = useState("");
  const [made, setMade] = useState<Chosen[]>([]);
  const find = useMutation({ mutationFn: (w: string) => post<FolderView>(`/api/devices/${id}/find`, { words: w }) });
  const toggle = useCallback(
    (c: Chosen) =>
      setChosen((old) => {
        const next = new Map(old);
        const key = c.folder ? c.way + "." : c.address;
        if (!next.delete(key)) next.set(key, c);
        return next;
      }),
    [],
  );
  const device = site?.devices.find((d) => d.id === id);
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  if (!device)
    return (
      <Empty title="This device is no longer in the site">
        <Link to="/points" className="underline">
          All maps
        </Link>
      </Empty>
    );
  const list = [...chosen.values()];
  const take = () =>
    attempt(async () => {
      const asked: NodesRequest = {
        ...rule,
        nodes: list.filter((c) => !c.folder).map((c) => ({ address: c.address, way: c.way })),
        folders: list.filter((c) => c.folder).map((c) => c.way),
      };
      say((await post<NotedView>(`/api/devices/${id}/take`, asked)).said);
      setMade([...made, ...list]);
      setChosen(new Map());
    });
  const has = (e: EntryView, way: string) => chosen.has(e.holds ? e.address : way + ".");
  const first = list[0];
  const example =
    first &&
    rule.prefix +
      (first.way + (first.folder ? ".Name" : ""))
        .split(".")
        .slice(-(rule.parts || 99))
        .join(rule.separator);
  return (
    <div className="flex min-h-0 flex-1">
      <section className="flex min-w-0 flex-1 flex-col" aria-label="What it has">
        <form
          className="flex items-center gap-3 border-b border-rule p-3"
          onSubmit={(e) => {
            e.preventDefault();
            if (words.trim()) find.mutate(words);
          }}
        >
          <h2>
            What{" "}
            <Link to="/points/$device" params={{ device: device.id }} className="underline">
              {device.name}
            </Link>{" "}
            has
          </h2>
          <input
            className="input ml-auto w-[280px]"
            aria-label="Words of the name"
            placeholder="words of the name…"
            value={words}
            onChange={(e) => {
              setWords(e.target.value);
              if (!e.target.value) find.reset();
            }}
          />
          <button type="submit" className="button" disabled={!words.trim() || find.isPending}>
            {find.isPending ? "Looking…" : "Find"}
          </button>
        </form>
        <div
          className="min-h-0 flex-1 overflow-auto p-2"
          role="tree"
          aria-label="Nodes"
          tabIndex={-1}
          onKeyDown={steer}
        >
          <Made value={made}>
            {find.error ? (
              <ProblemNotice problem={problemOf(find.error)} />
            ) : find.data ? (
              <>
                <p className="small soft px-2 pb-1" role="status">
                  {find.data.said}
                </p>
                {find.data.entries.map((e) => (
                  <Row key={e.address} entry={e} way={e.name} depth={0} chosen={has(e, e.name)} onToggle={toggle} />
                ))}
              </>
            ) : (
              <Folder device={device.id} address="" way="" depth={0} has={has} onToggle={toggle} />
            )}
          </Made>
        </div>
      </section>
      <aside className="w-[300px] flex-none overflow-y-auto border-l border-rule p-4" aria-label="What is chosen">
        <h3 className="mb-1">Chosen</h3>
        {list.length === 0 ? (
          <p className="small soft">Tick nodes, or whole folders. They become points of the map.</p>
        ) : (
          <ul className="small mb-2 max-h-[180px] overflow-y-auto">
            {list.map((c) => (
              <li key={c.way} className="flex items-start gap-2 py-[2px]">
                <span className="mono flex-1 break-all">{c.folder ? `${c.way}: all in it` : c.way}</span>
                <button type="button" className="underline" aria-label={`Leave ${c.way} out`} onClick={() => toggle(c)}>
                  leave
                </button>
              </li>
            ))}
          </ul>
        )}
        <h3 className="mt-3 mb-1">How points are called</h3>
        <label className="small soft mt-1 block">
          Goes before each name
          <input
            className="input mt-1"
            aria-label="Goes before each name"
            value={rule.prefix}
            placeholder="nothing"
            onChange={(e) => setRule({ ...rule, prefix: e.target.value })}
          />
        </label>
        <label className="small soft mt-2 block">
          Of the way there, it keeps
          <select
            className="input mt-1"
            value={rule.parts}
            onChange={(e) => setRule({ ...rule, parts: Number(e.target.value) })}
          >
            <option value={1}>the last part</option>
            <option value={2}>the last two parts</option>
            <option value={3}>the last three parts</option>
            <option value={0}>all of it</option>
          </select>
        </label>
        <label className="small soft mt-2 block">
          Between the parts stands
          <input
            className="input mono mt-1"
            value={rule.separator}
            onChange={(e) => setRule({ ...rule, separator: e.target.value })}
          />
        </label>
        {example !== undefined && (
          <p className="small mt-2">
            As <b className="mono break-all">{example}</b>.
          </p>
        )}
        <button type="button" className="button main mt-3" disabled={list.length === 0} onClick={() => void take()}>
          Make points of them
        </button>
      </aside>
    </div>
  );
}

/** What lies in a folder: as much of it as was asked for. */
function Folder({
  device,
  address,
  way,
  depth,
  has,
  onToggle,
}: {
  device: string;
  address: string;
  way: string;
  depth: number;
  has: (e: EntryView, way: string) => boolean;
  onToggle: (c: Chosen) => void;
}) {
  const [parts, setParts] = useState<FolderView[]>([]);
  const {
    mutate: ask,
    error,
    isPending,
  } = useMutation({
    mutationFn: (from: number) => post<FolderView>(`/api/devices/${device}/browse`, { folder: address, from }),
    onSuccess: (got, from) => setParts((old) => (from === 0 ? [got] : [...old, got])),
  });
  useEffect(() => ask(0), [ask]);
  const entries = parts.flatMap((p) => p.entries);
  const indent = { paddingLeft: 8 + depth * 20 };
  if (error) return <ProblemNotice problem={problemOf(error)} />;
  return (
    <>
      {entries.map((e) => (
        <Node
          key={e.address}
          device={device}
          entry={e}
          way={way ? `${way}.${e.name}` : e.name}
          depth={depth}
          has={has}
          onToggle={onToggle}
        />
      ))}
      {isPending && (
        <p className="small soft py-1" style={indent}>
          Looking into it…
        </p>
      )}
      {!isPending && parts.length > 0 && entries.length === 0 && (
        <p className="small soft py-1" style={indent}>
          Nothing lies in it.
        </p>
      )}
      {parts.at(-1)?.more && !isPending && (
        <p style={indent}>
          <button type="button" className="small py-1 underline" onClick={() => ask(entries.length)}>
            {entries.length} so far: show more
          </button>
        </p>
      )}
    </>
  );
}

/** One node, which may be opened. */
function Node({
  device,
  entry,
  way,
  depth,
  has,
  onToggle,
}: {
  device: string;
  entry: EntryView;
  way: string;
  depth: number;
  has: (e: EntryView, way: string) => boolean;
  onToggle: (c: Chosen) => void;
}) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Row
        entry={entry}
        way={way}
        depth={depth}
        chosen={has(entry, way)}
        open={entry.opens ? open : undefined}
        onOpen={() => setOpen(!open)}
        onToggle={onToggle}
      />
      {open && (
        <Folder device={device} address={entry.address} way={way} depth={depth + 1} has={has} onToggle={onToggle} />
      )}
    </>
  );
}

/** A node with what stands there. */
function Row({
  entry: e,
  way,
  depth,
  chosen,
  open,
  onOpen,
  onToggle,
}: {
  entry: EntryView;
  way: string;
  depth: number;
  chosen: boolean;
  open?: boolean;
  onOpen?: () => void;
  onToggle: (c: Chosen) => void;
}) {
  const made = useContext(Made);
  const mapped =
    e.mapped || made.some((c) => (c.folder ? `${way}.`.startsWith(`${c.way}.`) : e.holds && c.address === e.address));
  const takes = !mapped && (!e.holds || e.type !== "");
  return (
    <div
      role="treeitem"
      aria-expanded={open}
      aria-selected={chosen}
      className="flex items-center gap-2 rounded py-[3px] hover:bg-band"
      style={{ paddingLeft: 8 + depth * 20 }}
      data-node={way}
    >
      <input
        type="checkbox"
        aria-label={`Choose ${way}`}
        checked={chosen}
        disabled={!takes}
        onChange={() => onToggle({ address: e.address, way, folder: !e.holds })}
      />
      {open === undefined ? (
        <span className="w-[22px] flex-none" />
      ) : (
        <button
          type="button"
          className="w-[22px] flex-none text-center"
          aria-label={`${open ? "Close" : "Open"} ${way}`}
          onClick={onOpen}
        >
          {open ? "▾" : "▸"}
        </button>
      )}
      <span className={"min-w-0 truncate " + (e.holds ? "" : "font-semibold")} title={e.remark || e.address}>
        {e.name}
      </span>
      {e.holds && (
        <>
          <span className="mono small soft flex-none">{e.type || "no type of Ferry's"}</span>
          <span className="mono flex-none">
            {e.shown}
            {e.shown && e.unit ? `\u2009${e.unit}` : ""}
          </span>
          {e.low !== undefined && e.high !== undefined && (
            <span className="small soft flex-none">
              {e.low} to {e.high}
            </span>
          )}
          {e.writable && <span className="small soft flex-none">can be written</span>}
          {e.reason && <span className="small truncate text-fault">{e.reason}</span>}
        </>
      )}
      {mapped && <span className="small soft flex-none">in the map</span>}
      <span className="small soft ml-auto truncate pr-2 pl-3">{e.remark}</span>
    </div>
  );
}
