import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { get, post, problemOf, useSite } from "../api/client";
import { nameOf } from "../api/site";
import type {
  ComparedView,
  Difference,
  Problem,
  SiteView,
  Snapshot,
  SnapshotView,
  WriteBackRow,
  WriteBackView,
  WriteResult,
} from "../api/types.gen";
import { Mark, type MarkKind } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { Dialog, Empty, ProblemNotice } from "../shared/ui";

/** All values of a device or of the site under a name, compared with another moment, and written back. */
export function SnapshotsPage() {
  const { id } = useParams({ strict: false }) as { id?: string };
  const { data: site } = useSite();
  const { data: list } = useQuery({ queryKey: ["snapshots"], queryFn: () => get<Snapshot[]>("/api/snapshots") });
  if (!list || !site) return <p className="soft p-8">Reading what is kept…</p>;
  const chosen = list.find((s) => String(s.id) === id);
  return (
    <>
      <aside
        className="flex w-[320px] flex-none flex-col overflow-y-auto border-r border-[var(--rule)] p-3"
        aria-label="Snapshots"
      >
        <Link to="/checkout" className="small underline">
          Checkout
        </Link>
        <h2 className="mt-2 mb-1">Snapshots</h2>
        <Keep site={site} />
        <nav className="mt-3" aria-label="Kept">
          {list.map((s) => (
            <Link
              key={s.id}
              to="/checkout/snapshots/$id"
              params={{ id: String(s.id) }}
              className="block rounded px-2 py-1"
              style={s.id === chosen?.id ? { background: "var(--tide-wash)" } : undefined}
            >
              <b className="block break-words">{s.name}</b>
              <span className="small soft">
                {s.device ? nameOf(site, s.device) : "the whole site"} · {s.mode} ·{" "}
                {new Date(s.atMs).toLocaleString("en-GB", { dateStyle: "short", timeStyle: "short" })} · {s.who}
              </span>
            </Link>
          ))}
        </nav>
      </aside>
      <div className="min-w-0 flex-1 overflow-y-auto p-4">
        {chosen ? (
          <Compared key={chosen.id} snapshot={chosen} list={list} />
        ) : (
          <Empty title={list.length ? "Choose a snapshot" : "Nothing is kept yet"}>
            A snapshot is what all points of a device, or of the site, read at one moment. Keep one before a device is
            exchanged, or before somebody works on it: then it is seen what has become another, and written back.
          </Empty>
        )}
      </div>
    </>
  );
}

function Keep({ site }: { site: SiteView }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [device, setDevice] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const keep = async () => {
    setProblem(undefined);
    try {
      const kept = await post<SnapshotView>("/api/snapshots", { name, device: device || undefined });
      await client.invalidateQueries({ queryKey: ["snapshots"] });
      say(kept.said);
      setName("");
      await navigate({ to: "/checkout/snapshots/$id", params: { id: String(kept.id) } });
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        void keep();
      }}
    >
      <select className="input" aria-label="Of" value={device} onChange={(e) => setDevice(e.target.value)}>
        <option value="">the whole site</option>
        {site.devices
          .filter((d) => d.pointCount > 0)
          .map((d) => (
            <option key={d.id} value={d.id}>
              {d.name}
            </option>
          ))}
      </select>
      <input
        className="input mt-1"
        aria-label="Name of the snapshot"
        placeholder="before the exchange of the drive"
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <button type="submit" className="button main mt-2">
        Keep what is read now
      </button>
      {problem && <ProblemNotice problem={problem} />}
    </form>
  );
}

function Compared({ snapshot, list }: { snapshot: Snapshot; list: Snapshot[] }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [other, setOther] = useState("");
  const [chosen, setChosen] = useState<string[]>([]);
  const [orders, setOrders] = useState<WriteBackRow[]>();
  const { data, refetch } = useQuery({
    queryKey: ["snapshots", snapshot.id, other],
    queryFn: () => get<ComparedView>(`/api/snapshots/${snapshot.id}${other ? "?with=" + other : ""}`),
  });
  const rows = data?.rows ?? [];
  const differ = rows.filter((r) => r.differs);
  const back = differ.filter((r) => r.writable && !r.why);
  const remove = () =>
    attempt(async () => {
      await post(`/api/snapshots/${snapshot.id}/remove`);
      await client.invalidateQueries({ queryKey: ["snapshots"] });
      await navigate({ to: "/checkout/snapshots" });
    });
  const prepare = () =>
    attempt(async () => {
      setOrders((await post<WriteBackView>(`/api/snapshots/${snapshot.id}/back`, { points: chosen })).rows);
    });
  const toggle = (id: string) => setChosen(chosen.includes(id) ? chosen.filter((c) => c !== id) : [...chosen, id]);
  return (
    <section aria-label="Compared">
      <div className="mb-3 flex flex-wrap items-center gap-3">
        <h2 className="min-w-0 break-words">{snapshot.name}</h2>
        <label className="small soft flex items-center gap-2">
          beside
          <select className="input !w-[240px]" value={other} onChange={(e) => setOther(e.target.value)}>
            <option value="">what is read now</option>
            {list
              .filter((s) => s.id !== snapshot.id)
              .map((s) => (
                <option key={s.id} value={s.id}>
                  {s.name}
                </option>
              ))}
          </select>
        </label>
        <button type="button" className="button" onClick={() => void refetch()}>
          Compare again
        </button>
        <button type="button" className="button" onClick={() => void remove()}>
          Remove it
        </button>
      </div>
      {data && (
        <p className="mb-2" data-testid="differs">
          {differ.length === 0
            ? `All ${rows.filter((r) => !r.why).length} values are the same.`
            : `${differ.length} of ${rows.length} values differ.`}
        </p>
      )}
      {!other && back.length > 0 && (
        <div className="mb-2 flex flex-wrap gap-2">
          <button type="button" className="button" onClick={() => setChosen(back.map((r) => r.point))}>
            Choose the {back.length} that can be written
          </button>
          <button type="button" className="button main" disabled={chosen.length === 0} onClick={() => void prepare()}>
            Write {chosen.length || ""} back…
          </button>
        </div>
      )}
      <table className="rows" aria-label="Differences">
        <thead>
          <tr>
            <th>
              <span className="sr-only">Chosen</span>
            </th>
            <th>Point</th>
            <th className="num">Then</th>
            <th>
              <span className="sr-only">The same</span>
            </th>
            <th className="num">{other ? "In the other" : "Now"}</th>
            <th>Unit</th>
            <th>Why not</th>
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, 2000).map((r) => (
            <tr key={r.point} data-differs={r.differs}>
              <td className="w-[1px]">
                {!other && r.differs && r.writable && !r.why && (
                  <input
                    type="checkbox"
                    aria-label={`Write ${r.name} back`}
                    checked={chosen.includes(r.point)}
                    onChange={() => toggle(r.point)}
                  />
                )}
              </td>
              <td>{r.name}</td>
              <td className="num">{r.was}</td>
              <td>
                <Mark kind={markOfRow(r)} size={13} />
              </td>
              <td className="num">{r.is}</td>
              <td className="soft">{r.unit}</td>
              <td className="small soft">{r.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length > 2000 && <p className="small soft mt-2">and {rows.length - 2000} more, which are the same.</p>}
      {orders && (
        <WriteBack
          rows={orders}
          names={new Map(rows.map((r) => [r.point, r.name]))}
          onClose={() => {
            setOrders(undefined);
            setChosen([]);
            void refetch();
          }}
        />
      )}
    </section>
  );
}

const markOfRow = (r: Difference): MarkKind => (r.differs ? "fault" : r.why ? "not-yet" : "good");

/** Each value that is written back, one after the other; the first that fails ends it. */
function WriteBack({
  rows,
  names,
  onClose,
}: {
  rows: WriteBackRow[];
  names: Map<string, string>;
  onClose: () => void;
}) {
  const [results, setResults] = useState<Record<string, WriteResult>>({});
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const orders = rows.filter((r) => r.order);
  const locked = orders.some((r) => r.order?.locked);
  const done = Object.keys(results).length;
  const write = async () => {
    setBusy(true);
    setProblem(undefined);
    try {
      for (const r of orders) {
        if (results[r.point]) continue;
        const result = await post<WriteResult>("/api/write", { token: r.order?.token ?? "" });
        setResults((was) => ({ ...was, [r.point]: result }));
        if (!result.ok) break;
      }
    } catch (error) {
      setProblem(problemOf(error));
    }
    setBusy(false);
  };
  const plant = orders.some((r) => r.order?.mode === "plant");
  return (
    <Dialog open onClose={onClose} title={plant ? "Write these back to the plant?" : "Write these back to the bench?"}>
      <div className="max-h-[50vh] overflow-y-auto">
        <table className="rows">
          <thead>
            <tr>
              <th>Point</th>
              <th className="num">Now</th>
              <th className="num">Then</th>
              <th>Result</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((r) => {
              const result = results[r.point];
              return (
                <tr key={r.point}>
                  <td>{names.get(r.point)}</td>
                  <td className="num">{r.order?.oldAtMs ? r.order.old : ""}</td>
                  <td className="num font-semibold">
                    {r.order?.new} <span className="soft">{r.order?.unit}</span>
                  </td>
                  <td className="small">
                    {result ? (
                      <span className="inline-flex items-center gap-2">
                        <Mark kind={result.ok ? "good" : "fault"} size={13} /> {result.sentence}
                      </span>
                    ) : (
                      r.why
                    )}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      {locked && (
        <div className="notice doubt mt-2">
          <b>Writing to the plant is locked.</b> Close this, unlock it for some minutes in the bar above, and prepare
          the writes again.
        </div>
      )}
      {problem && <ProblemNotice problem={problem} />}
      <div className="mt-3 flex justify-end gap-2">
        <button type="button" className="button" onClick={onClose}>
          {done > 0 ? "Close" : "Do not write"}
        </button>
        {!locked && done < orders.length && (
          <button type="button" className="button main" disabled={busy} onClick={() => void write()}>
            {busy ? `Writing, ${done} of ${orders.length}…` : `Write ${orders.length - done} values`}
          </button>
        )}
      </div>
    </Dialog>
  );
}
