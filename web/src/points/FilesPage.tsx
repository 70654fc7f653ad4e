import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useCallback, useEffect, useState } from "react";
import { get, post, postBody, problemOf, useSite } from "../api/client";
import { nameOf } from "../api/site";
import type {
  Disparities,
  NotedView,
  OutlineItem,
  OutlinePart,
  OutlineTake,
  OutlineView,
  Problem,
} from "../api/types.gen";
import { count } from "../shared/numbers";
import { attempt, say } from "../shared/toast";
import { steer } from "../shared/tree";
import { Empty, ProblemNotice } from "../shared/ui";

/** An entry by its places in its file. */
const keyOf = (item: OutlineItem) => `${item.head}:${item.at}`;

/** What a file says that describes devices: as a tree, by words, and beside another file or what a device lists. */
export function FilesPage() {
  const { data: site } = useSite();
  const { device } = useParams({ strict: false });
  const [file, setFile] = useState<OutlineView>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const [words, setWords] = useState("");
  const [asked, setAsked] = useState("");
  const [chosen, setChosen] = useState<Map<string, OutlineItem>>(new Map());
  const open = useCallback(async (from: Promise<OutlineView>) => {
    setProblem(undefined);
    setBusy(true);
    try {
      setFile(await from);
      setChosen(new Map());
      setAsked("");
    } catch (error) {
      setProblem(problemOf(error));
    } finally {
      setBusy(false);
    }
  }, []);
  useEffect(() => {
    if (device) void open(post<OutlineView>("/api/outlines?device=" + device, {}));
  }, [device, open]);
  const toggle = useCallback(
    (item: OutlineItem) =>
      setChosen((old) => {
        const next = new Map(old);
        if (!next.delete(keyOf(item))) next.set(keyOf(item), item);
        return next;
      }),
    [],
  );
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  return (
    <div className="flex min-h-0 min-w-0 flex-1">
      <section className="flex min-w-0 flex-1 flex-col" aria-label="What the file says">
        <form
          className="flex flex-wrap items-center gap-3 border-b border-rule p-3"
          onSubmit={(e) => {
            e.preventDefault();
            setAsked(words.trim());
          }}
        >
          <Link to="/points" className="button tight">
            Back to the maps
          </Link>
          <h2 className="min-w-0 truncate" title={file?.name}>
            {file ? file.name : "Files of devices"}
          </h2>
          <Opener label="File to look into" onOpen={(of) => void open(opened(of))}>
            {busy ? "Reading…" : "Open a file…"}
          </Opener>
          {file && (
            <>
              <input
                className="input ml-auto w-[240px]"
                aria-label="Words of what is looked for"
                placeholder="words of a name, type or text…"
                value={words}
                onChange={(e) => {
                  setWords(e.target.value);
                  if (!e.target.value) setAsked("");
                }}
              />
              <button type="submit" className="button" disabled={!words.trim()}>
                Find
              </button>
            </>
          )}
        </form>
        <div
          className="min-h-0 flex-1 overflow-auto p-2"
          role="tree"
          aria-label="Entries"
          tabIndex={-1}
          onKeyDown={steer}
        >
          {problem && <ProblemNotice problem={problem} />}
          {!file && !problem && (
            <Empty title="No file is open">
              Open the file of a device or of a whole station (.icd, .cid, .iid, .scd): it is shown as a tree, compared
              with another or with a device, and what you choose becomes points.
            </Empty>
          )}
          {file && asked && <Found file={file} words={asked} chosen={chosen} onToggle={toggle} />}
          {file &&
            !asked &&
            file.heads.map((h) => (
              <Branch key={file.id + keyOf(h)} file={file} item={h} depth={0} chosen={chosen} onToggle={toggle} />
            ))}
          {file && file.unread.length > 0 && (
            <div className="notice doubt m-2">
              <b>{count(file.unread.length, "place")} of the file cannot be used:</b>
              <ul className="small">
                {file.unread.slice(0, 50).map((u) => (
                  <li key={`${u.line} ${u.what}`}>
                    {u.line > 0 ? `line ${u.line}: ` : ""}
                    {u.what}: {u.reason}
                  </li>
                ))}
              </ul>
            </div>
          )}
        </div>
      </section>
      {file && (
        <aside className="panel" aria-label="What to do with it">
          <Take file={file} chosen={chosen} onTaken={() => setChosen(new Map())} />
          <Beside file={file} />
        </aside>
      )}
    </div>
  );
}

const opened = (of: File) => postBody<OutlineView>(`/api/outlines?name=${encodeURIComponent(of.name)}`, of);

function Opener({ label, onOpen, children }: { label: string; onOpen: (of: File) => void; children: React.ReactNode }) {
  return (
    <label className="button inline-block cursor-pointer">
      {children}
      <input
        className="sr-only"
        type="file"
        accept=".icd,.cid,.iid,.scd,.ssd,.xml"
        aria-label={label}
        onChange={(e) => {
          const of = e.target.files?.[0];
          if (of) onOpen(of);
          e.target.value = "";
        }}
      />
    </label>
  );
}

interface Choice {
  file: OutlineView;
  chosen: Map<string, OutlineItem>;
  onToggle: (item: OutlineItem) => void;
}

/** An entry, with what lies in it once it is opened. */
function Branch({ item, depth, ...choice }: Choice & { item: OutlineItem; depth: number }) {
  const [open, setOpen] = useState(choice.file.heads.length === 1 && depth < 3);
  const [from, setFrom] = useState(1);
  const { data, error } = useQuery({
    queryKey: ["outline", choice.file.id, item.head, item.at, from],
    queryFn: async () => {
      const parts: OutlinePart = { items: [], more: 0 };
      for (let i = 0; i < from; i++) {
        const part = await get<OutlinePart>(
          `/api/outlines/${choice.file.id}?head=${item.head}&at=${item.at}&from=${parts.items.length}`,
        );
        parts.items.push(...part.items);
        parts.more = part.more;
      }
      return parts;
    },
    enabled: open && item.opens,
    staleTime: Infinity,
  });
  return (
    <>
      <Row item={item} depth={depth} open={item.opens ? open : undefined} onOpen={() => setOpen(!open)} {...choice} />
      {open && error && <ProblemNotice problem={problemOf(error)} />}
      {open && data?.items.map((i) => <Branch key={keyOf(i)} item={i} depth={depth + 1} {...choice} />)}
      {open && data && data.more > 0 && (
        <button
          type="button"
          className="small underline"
          style={{ marginLeft: 28 + depth * 20 }}
          onClick={() => setFrom(from + 1)}
        >
          {count(data.more, "more entry").replace(/entrys$/, "entries")}
        </button>
      )}
    </>
  );
}

function Row({
  item,
  depth,
  open,
  onOpen,
  chosen,
  onToggle,
}: Choice & { item: OutlineItem; depth: number; open?: boolean; onOpen?: () => void }) {
  const takes = !["member", "address", "report", "data set", "not read"].includes(item.kind);
  return (
    <div
      role="treeitem"
      aria-expanded={open}
      aria-selected={chosen.has(keyOf(item))}
      className="flex items-center gap-2 rounded py-px pr-2 hover:bg-band"
      style={{ paddingLeft: 8 + depth * 20 }}
      data-entry={item.name}
    >
      {onOpen && open !== undefined ? (
        <button
          type="button"
          className="mono h-6 w-6 flex-none"
          aria-label={open ? `Close ${item.name}` : `Open ${item.name}`}
          onClick={onOpen}
        >
          {open ? "−" : "+"}
        </button>
      ) : (
        <span className="w-6 flex-none" />
      )}
      {takes ? (
        <input
          type="checkbox"
          className="flex-none"
          aria-label={`Choose ${item.name}`}
          checked={chosen.has(keyOf(item))}
          onChange={() => onToggle(item)}
        />
      ) : (
        <span className="w-[13px] flex-none" />
      )}
      <span className="mono flex-none">{item.name}</span>
      <span className="small soft flex-none">{item.kind}</span>
      <span className="small min-w-0 truncate" title={item.says}>
        {item.says}
      </span>
      <span className="small soft ml-auto min-w-0 truncate" title={item.remark}>
        {item.remark}
      </span>
    </div>
  );
}

/** Entries with all words in their way, kind or text. */
function Found({ words, ...choice }: Choice & { words: string }) {
  const { data, error } = useQuery({
    queryKey: ["outline", choice.file.id, "find", words],
    queryFn: () => get<OutlinePart>(`/api/outlines/${choice.file.id}/find?words=${encodeURIComponent(words)}`),
    staleTime: Infinity,
  });
  if (error) return <ProblemNotice problem={problemOf(error)} />;
  if (!data) return <p className="soft p-2">Looking…</p>;
  return (
    <>
      <p className="small soft px-2 pb-1" role="status">
        {data.items.length === 0
          ? "Nothing has all these words."
          : `${data.items.length + data.more} found${data.more ? `, the first ${data.items.length}` : ""}.`}
      </p>
      {data.items.map((i) => (
        <Row key={keyOf(i)} item={i} depth={0} {...choice} />
      ))}
    </>
  );
}

/** Makes points of what is chosen. */
function Take({ file, chosen, onTaken }: { file: OutlineView; chosen: Map<string, OutlineItem>; onTaken: () => void }) {
  const { data: site } = useSite();
  const [into, setInto] = useState("");
  const fits = site?.devices.filter((d) => d.map === file.map) ?? [];
  const device = fits.some((d) => d.id === into) ? into : (fits[0]?.id ?? "");
  const take = () =>
    attempt(async () => {
      const asked: OutlineTake = { device, of: [...chosen.values()].map(({ head, at }) => ({ head, at })) };
      say((await post<NotedView>(`/api/outlines/${file.id}/take`, asked)).said + " Ctrl Z takes it back.");
      onTaken();
    });
  return (
    <section aria-label="Points of what is chosen">
      <div className="small soft">{file.title}</div>
      <h2 className="mb-2 break-words">{file.name}</h2>
      <h3 className="mb-1">Points of what is chosen</h3>
      {chosen.size === 0 ? (
        <p className="small soft">Tick entries: the values that lie in them become points of a map.</p>
      ) : (
        <ul className="small max-h-[140px] overflow-y-auto">
          {[...chosen.values()].map((i) => (
            <li key={keyOf(i)} className="mono truncate">
              {i.name}
            </li>
          ))}
        </ul>
      )}
      {fits.length === 0 ? (
        <p className="small mt-2">
          No device of the site has a map for {file.title}: add one on{" "}
          <Link to="/lines" className="underline">
            a line
          </Link>
          , out of this file.
        </p>
      ) : (
        <div className="mt-2 flex gap-2">
          <select
            className="input min-w-0 flex-1"
            aria-label="Device that gets the points"
            value={device}
            onChange={(e) => setInto(e.target.value)}
          >
            {fits.map((d) => (
              <option key={d.id} value={d.id}>
                {d.name}
              </option>
            ))}
          </select>
          <button type="button" className="button" disabled={chosen.size === 0} onClick={() => void take()}>
            Make points
          </button>
        </div>
      )}
    </section>
  );
}

/** In what the file differs from another, or from what a device lists of itself. */
function Beside({ file }: { file: OutlineView }) {
  const { data: site } = useSite();
  const [head, setHead] = useState(0);
  const compare = useMutation({
    mutationFn: async (from: { other: File } | { link: string }) => {
      if ("link" in from)
        return {
          name: nameOf(site, site?.links.find((l) => l.id === from.link)?.answering ?? ""),
          is: await get<Disparities>(`/api/outlines/${file.id}/differences?link=${from.link}&head=${head}`),
        };
      const other = await opened(from.other);
      return {
        name: other.name,
        is: await get<Disparities>(`/api/outlines/${file.id}/differences?with=${other.id}`),
      };
    },
  });
  const { reset } = compare;
  useEffect(() => {
    reset();
    setHead(0);
  }, [file.id, reset]);
  const links = site?.links.filter((l) => l.protocol === file.map) ?? [];
  const got = compare.data;
  return (
    <section className="mt-5" aria-label="In what it differs">
      <h3 className="mb-2">In what it differs</h3>
      <Opener label="Another file to compare with" onOpen={(other) => compare.mutate({ other })}>
        From another file…
      </Opener>
      {file.heads.length > 1 && links.length > 0 && (
        <select
          className="input mt-2"
          aria-label="Which device of the file"
          value={head}
          onChange={(e) => setHead(Number(e.target.value))}
        >
          {file.heads.map((h) => (
            <option key={h.head} value={h.head}>
              {h.name}
            </option>
          ))}
        </select>
      )}
      {links.map((l) => (
        <button
          key={l.id}
          type="button"
          className="button mt-2 block"
          disabled={compare.isPending}
          onClick={() => compare.mutate({ link: l.id })}
        >
          From what {nameOf(site, l.answering)} lists now
        </button>
      ))}
      {compare.isPending && <p className="small soft mt-2">Comparing…</p>}
      {compare.error && <ProblemNotice problem={problemOf(compare.error)} />}
      {got && (
        <>
          <p className="small mt-3" role="status">
            {got.is.count === 0
              ? `${got.name} is the same: ${count(got.is.alike, "entry").replace(/entrys$/, "entries")}.`
              : `${count(got.is.count, "difference")} to ${got.name}; ${got.is.alike} are alike.`}
          </p>
          <ul className="small mt-1">
            {got.is.list.map((d, i) => (
              <li key={i} className="border-t border-rule py-2" data-differs={d.path}>
                <span className="mono block break-all">{d.path}</span>
                <span className="soft">{d.kind}: </span>
                {d.lacks === "other" && <>only in this file ({d.one})</>}
                {d.lacks === "one" && (
                  <>
                    only in {got.name} ({d.other})
                  </>
                )}
                {!d.lacks && (
                  <>
                    here {d.one}; there {d.other}
                  </>
                )}
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
