import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { get, newId, post, useEdit, useSite } from "../api/client";
import { useLivePart } from "../api/live";
import type { Caught, Event as Sighted, Lookout, LookoutsView, Outlet, OutletState, SiteView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { count } from "../shared/numbers";
import { lasted, spanText } from "../shared/spans";
import { attempt } from "../shared/toast";
import { usePointName } from "../shared/usePointName";
import { clock, clockDay, Empty } from "../shared/ui";
import { lookUp } from "./codes";
import { Compare } from "./Compare";
import { LookoutPanel } from "./LookoutPanel";
import { freeName, newLookout, ofPoints, placeName, wayWords } from "./lookouts";
import { OutletPanel } from "./OutletPanel";

/** What is looked out for during a run, what was seen, and who was told. */
export function LookoutsPage() {
  const { data: site } = useSite();
  const { kind, id } = useParams({ strict: false });
  const navigate = useNavigate();
  const edit = useEdit();
  const rev = useLivePart((live) => live.lookouts);
  const open = useLivePart((live) => live.open);
  const mode = useLivePart((live) => live.state.mode);
  const running = useLivePart((live) => live.state.running.length > 0);
  const { data } = useQuery({
    queryKey: ["lookouts", rev],
    queryFn: () => get<LookoutsView>("/api/lookouts"),
    placeholderData: (old) => old,
    refetchInterval: 3000,
  });
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const goTo = (what: string, which: string) =>
    navigate({ to: "/traffic/lookouts/$kind/$id", params: { kind: what, id: which } });
  const add = () =>
    attempt(async () => {
      const after = newLookout(newId(), site.lookouts);
      await edit("added a lookout", [{ kind: "lookout", id: after.id, base: 0, after }]);
      await goTo("lookout", after.id);
    });
  const addOutlet = () =>
    attempt(async () => {
      const after: Outlet = {
        id: newId(),
        name: freeName("On call", site.outlets),
        way: "mail",
        from: "ferry@skerry.example",
        to: ["oncall@skerry.example"],
        server: "192.0.2.25:587",
        safe: "starttls",
        everyS: 60,
      };
      await edit("added an outlet", [{ kind: "outlet", id: after.id, base: 0, after }]);
      await goTo("outlet", after.id);
    });
  const lookout = kind === "lookout" ? site.lookouts.find((l) => l.id === id) : undefined;
  const outlet = kind === "outlet" ? site.outlets.find((o) => o.id === id) : undefined;
  return (
    <>
      <div className="flex min-w-0 flex-1 flex-col" data-page="lookouts">
        <div className="flex flex-none items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
          <h2>Lookouts</h2>
          <span className="small soft truncate">
            {open.length > 0 ? `${open.length} now` : running ? "nothing now" : "no run: nothing is looked at"}
          </span>
          <span className="ml-auto flex flex-none gap-2">
            <Link to="/traffic" className="button">
              Traffic
            </Link>
            <Link to="/traffic/lookouts/$kind/$id" params={{ kind: "compare", id: "text" }} className="button">
              Compare with another program
            </Link>
            <button type="button" className="button" onClick={() => void addOutlet()}>
              Add an outlet
            </button>
            <button type="button" className="button main" onClick={() => void add()}>
              Add a lookout
            </button>
          </span>
        </div>
        <div className="min-h-0 flex-1 overflow-y-auto p-4">
          {kind === "compare" ? (
            <Compare site={site} />
          ) : (
            <>
              {site.lookouts.length === 0 && (
                <Empty title="Nothing is looked out for">
                  A lookout watches a condition while the site runs: a link that brings nothing, a value outside its
                  limits, a finding. It keeps when it began and when it was over, and tells whoever has to know.
                </Empty>
              )}
              <ul aria-label="What is looked out for">
                {site.lookouts.map((l) => (
                  <Watched
                    key={l.id}
                    site={site}
                    lookout={l}
                    now={open.filter((e) => e.lookout === l.id)}
                    runs={running}
                    chosen={l.id === id}
                  />
                ))}
              </ul>
              {site.outlets.length > 0 && <Outlets site={site} told={data?.told ?? []} chosen={id} />}
              <Log events={data?.events ?? []} />
              {mode === "bench" && (data?.caught.length ?? 0) > 0 && <Catch caught={data?.caught ?? []} />}
            </>
          )}
        </div>
      </div>
      {lookout && <LookoutPanel key={lookout.id} site={site} lookout={lookout} />}
      {outlet && <OutletPanel key={outlet.id} site={site} outlet={outlet} programs={data?.programs ?? []} />}
    </>
  );
}

/** A condition that is looked out for, with how it stands. */
function Watched({ site, lookout: l, now, runs, chosen }: Watching) {
  const point = usePointName(site, ofPoints(l.sees) ? l.of : undefined);
  const state = l.off ? "off" : now.length ? "it is so now" : runs ? "it is not so" : "no run: it is not looked at";
  return (
    <li>
      <Link
        to="/traffic/lookouts/$kind/$id"
        params={{ kind: "lookout", id: l.id }}
        className="card mb-2 flex items-start gap-3 p-3"
        style={chosen ? { boxShadow: "0 0 0 2px var(--tide)" } : undefined}
        data-lookout={l.id}
        data-open={now.length}
        title={state}
      >
        <Mark kind={l.off || (!runs && !now.length) ? "not-yet" : now.length ? "fault" : "good"} label={state} />
        <span className="min-w-0 flex-1">
          <b className="block truncate">{l.name}</b>
          <span className="small soft block truncate">{inWords(l, point || placeName(site, l.of))}</span>
          {now.slice(0, 3).map((e) => (
            <span key={e.id} className="mt-1 block break-words">
              {e.says}
            </span>
          ))}
          {now.length > 3 && <span className="small soft">and {now.length - 3} more, in the log below</span>}
        </span>
        <span className="small soft max-w-[40%] flex-none text-right">
          {l.off ? "off" : [l.sound && "sounds", ...tells(site, l)].filter(Boolean).join(" · ")}
        </span>
      </Link>
    </li>
  );
}

interface Watching {
  site: SiteView;
  lookout: Lookout;
  now: Sighted[];
  runs: boolean;
  chosen: boolean;
}

const tells = (site: SiteView, l: Lookout) =>
  (l.tell ?? []).map((id) => `tells ${site.outlets.find((o) => o.id === id)?.name ?? "?"}`);

/** What a lookout looks out for at a place, in words. */
function inWords(l: Lookout, place: string): string {
  const times = [l.forMs && `held for ${spanText(l.forMs)}`, l.endMs && `over after ${spanText(l.endMs)} without`];
  const limits = [l.low != null && `below ${l.low}`, l.high != null && `above ${l.high}`].filter(Boolean).join(" or ");
  const what = {
    finding: `a finding${l.code ? " " + l.code : ""}: ${place}`,
    down: `a link brings nothing: ${place}`,
    limits: `${place} ${limits}`,
    still: `${place} does not move`,
    bad: `${place} is not good`,
    slow: `answers over ${l.aboveMs ?? 0} ms: ${place}`,
  }[l.sees];
  return [what, ...times].filter(Boolean).join(", ");
}

/** Who is told, and whether it arrived. */
function Outlets({ site, told, chosen }: { site: SiteView; told: OutletState[]; chosen?: string }) {
  return (
    <section className="mt-4" aria-label="Who is told">
      <h3 className="mb-1">Who is told</h3>
      {site.outlets.map((o) => {
        const state = told.find((t) => t.outlet === o.id);
        return (
          <Link
            key={o.id}
            to="/traffic/lookouts/$kind/$id"
            params={{ kind: "outlet", id: o.id }}
            className="card mb-2 flex items-start gap-3 p-3"
            style={chosen === o.id ? { boxShadow: "0 0 0 2px var(--tide)" } : undefined}
            data-outlet={o.id}
          >
            <Mark
              kind={o.off || !state ? "not-yet" : state.problem ? "fault" : "good"}
              label={state?.problem ? "it is not told" : state ? "told" : "not told yet"}
            />
            <span className="min-w-0 flex-1">
              <b className="block truncate">{o.name}</b>
              <span className="small soft block truncate">
                {wayWords[o.way]}: {o.to?.join(", ") ?? o.url ?? o.topic ?? o.program}
              </span>
              {state?.problem && <span className="block break-words">{state.problem}</span>}
            </span>
            <span className="small soft flex-none text-right">
              {o.off ? "off" : state ? `${count(state.sent, "notice")} sent` : ""}
              {state && state.waiting > 0 && ` · ${state.waiting} waiting`}
              {state && state.lost > 0 && ` · ${state.lost} lost`}
              {state && state.sentMs > 0 && <span className="block">last {clock(state.sentMs).slice(0, 8)}</span>}
            </span>
          </Link>
        );
      })}
    </section>
  );
}

/** When each began, and when it was over. */
function Log({ events }: { events: Sighted[] }) {
  const navigate = useNavigate();
  if (events.length === 0) return null;
  const open = (e: Sighted) => {
    if (e.subject.kind === "point" && e.subject.device)
      void navigate({ to: "/points/$device/$point", params: { device: e.subject.device, point: e.subject.id } });
    else if (e.subject.kind === "link" || e.subject.kind === "device" || e.subject.kind === "line")
      void navigate({ to: "/lines/$kind/$id", params: { kind: e.subject.kind, id: e.subject.id } });
    else void navigate({ to: "/traffic" });
  };
  return (
    <section className="mt-4" aria-label="Log">
      <h3 className="mb-1">Log</h3>
      <table className="rows">
        <thead>
          <tr>
            <th>From</th>
            <th>To</th>
            <th>Lasted</th>
            <th>What</th>
          </tr>
        </thead>
        <tbody>
          {events.map((e) => (
            <tr key={e.id} className="cursor-pointer align-top" onClick={() => open(e)} data-event={e.id}>
              <td className="mono whitespace-nowrap" title={clockDay(e.startMs)}>
                {clock(e.startMs).slice(0, 8)}
              </td>
              <td className="mono whitespace-nowrap">
                {e.endMs > 0 ? clock(e.endMs).slice(0, 8) : e.endMs < 0 ? "unknown" : <b>still so</b>}
              </td>
              <td className="whitespace-nowrap">{e.endMs > 0 ? lasted(e.endMs - e.startMs) : ""}</td>
              <td className="break-words">
                <b>{e.name}.</b> {e.says}
                {e.code && (
                  <>
                    {" "}
                    <Link
                      to="/traffic/codebook"
                      search={{ q: lookUp(e.code) || e.code } as never}
                      className="mono soft underline"
                      onClick={(click) => click.stopPropagation()}
                    >
                      {e.code}
                    </Link>
                  </>
                )}
                {e.ended && <span className="soft"> {e.ended}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** What the bench took in the place of mail servers and of others. */
function Catch({ caught }: { caught: Caught[] }) {
  const have = (refuse: boolean) => attempt(() => post("/api/caught/refuse", { refuse }));
  return (
    <section className="mt-4" aria-label="Caught on the bench">
      <div className="mb-1 flex items-center gap-3">
        <h3>Caught on the bench</h3>
        <span className="small soft">nothing leaves this machine</span>
        <button type="button" className="button tight ml-auto" onClick={() => void have(true)}>
          Have it be out of order
        </button>
        <button type="button" className="button tight" onClick={() => void have(false)}>
          Have it take again
        </button>
      </div>
      {caught.map((c, i) => (
        <details key={`${c.atMs}-${i}`} className="card mb-2 p-3" data-caught={c.way}>
          <summary className="cursor-pointer">
            <span className="mono">{clock(c.atMs).slice(0, 8)}</span> <b>{c.subject}</b>{" "}
            <span className="small soft">
              {c.way === "mail" ? "mail" : "post"} to {c.to.join(", ")}
              {c.secured && ", over TLS"}
              {c.user && `, as ${c.user}`}
            </span>
          </summary>
          <pre className="mono mt-2 overflow-x-auto whitespace-pre-wrap">{c.text}</pre>
        </details>
      ))}
    </section>
  );
}
