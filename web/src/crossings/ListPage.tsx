import { useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { post, useEdit, useSite } from "../api/client";
import { useLive, useLiveState } from "../api/live";
import { deviceOf, linkTo } from "../api/site";
import type { List, NamesView, NotedView, Proof, SiteView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { count } from "../shared/numbers";
import { attempt, say } from "../shared/toast";
import { clock, Empty, shown } from "../shared/ui";
import { arrows, namesOf, standsAs, useStandings, type Goes, type Named } from "./listed";
import { ListPanel } from "./ListPanel";
import { useCrossingState } from "./state";

/** One list of names: how it stands, and what each name carries now. */
export function ListPage() {
  const { data: site } = useSite();
  const { list: id } = useParams({ strict: false });
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const list = site.lists.find((l) => l.id === id);
  if (!list)
    return (
      <Empty title="This list is no longer in the site">
        <Link to="/crossings/lists" className="underline">
          See the lists there are
        </Link>
      </Empty>
    );
  return <Listed key={list.id} site={site} list={list} />;
}

function Listed({ site, list }: { site: SiteView; list: List }) {
  const { state } = useLiveState();
  const [proved, setProved] = useState<NamesView>();
  const [proving, setProving] = useState(false);
  const standing = useStandings().get(list.id);
  const names = useMemo(() => namesOf(site, list), [site, list]);
  const far = deviceOf(site, list.far);
  const link = linkTo(site, list.far);
  const key = far?.serving ? list.far : link?.id;
  const runs = !!key && (state.running.includes(key) || state.serving.includes(key));
  const prove = async () => {
    setProving(true);
    await attempt(async () => setProved(await post<NamesView>(`/api/devices/${list.far}/names?list=${list.id}`)));
    setProving(false);
  };
  const run = () => attempt(() => post(`/api/run/${runs ? "stop" : "start"}`, { links: runs && key ? [key] : [] }));
  const kind = standsAs(standing);
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <div className="flex flex-none flex-wrap items-center gap-3 border-b border-rule bg-sheet px-4 py-2">
        <h2 className="min-w-0 max-w-[360px] truncate" title={list.name}>
          {list.name}
        </h2>
        <span className="small soft truncate">
          {count(names.length, "name")} at {far?.name}
        </span>
        <span className="ml-auto flex gap-2">
          <Link to="/crossings/lists" className="button">
            All lists
          </Link>
          {link && (
            <button
              type="button"
              className="button"
              disabled={proving || names.length === 0}
              onClick={() => void prove()}
            >
              {proving ? "Asking…" : "Prove each name"}
            </button>
          )}
          <Link to="/crossings/lists/$list/add" params={{ list: list.id }} className="button">
            Add names…
          </Link>
          {key && (
            <button type="button" className={runs ? "button" : "button main"} onClick={() => void run()}>
              {runs ? "Stop it" : `Run on the ${state.mode}`}
            </button>
          )}
        </span>
      </div>
      <div className="flex min-h-0 flex-1">
        <div className="flex min-w-0 flex-1 flex-col p-4">
          <div
            className={`notice mb-3 flex-none ${kind === "good" ? "good" : kind === "doubt" ? "doubt" : kind === "fault" ? "" : "note"}`}
            role="status"
            data-stand={standing?.stand ?? ""}
          >
            <b>{standing?.title ?? "Looking…"}.</b> {standing?.sentence}
            {proved && (
              <div className="small mt-1" data-proved>
                Asked for its names: {proved.sentence}
              </div>
            )}
          </div>
          {names.length === 0 ? (
            <Empty title="No name yet">
              Add them from a table (this side, far name, what happens on the way, which way), by likeness, or one by
              one.
              <div className="mt-3">
                <Link to="/crossings/lists/$list/add" params={{ list: list.id }} className="button main">
                  Add names…
                </Link>
              </div>
            </Empty>
          ) : (
            <Rows site={site} list={list} names={names} live={standing?.proofs} proved={proved?.proofs} />
          )}
        </div>
        <ListPanel site={site} list={list} />
      </div>
    </div>
  );
}

const columns = "grid grid-cols-[22px_minmax(0,1fr)_170px_minmax(0,1fr)_24px] items-center gap-x-2";

/** The names in view: a list may have many thousands. */
function Rows({
  site,
  list,
  names,
  live,
  proved,
}: {
  site: SiteView;
  list: List;
  names: Named[];
  live: Proof[] | undefined;
  proved: Proof[] | undefined;
}) {
  const client = useQueryClient();
  const edit = useEdit();
  const scroller = useRef<HTMLDivElement>(null);
  const proofs = useMemo(() => {
    const of = new Map(live?.map((p) => [p.point, p]));
    for (const p of proved ?? []) {
      const now = of.get(p.point);
      if (!now || now.verdict === "not heard" || (now.verdict === "there" && p.verdict !== "not heard"))
        of.set(p.point, p);
    }
    return of;
  }, [live, proved]);
  const virtual = useVirtualizer({
    count: names.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 52,
    overscan: 10,
    getItemKey: (i) => names[i]?.crossing.id ?? i,
  });
  const turn = (of: Named, goes: Goes) =>
    attempt(async () => {
      await post<NotedView>(`/api/lists/${list.id}/turn`, { crossings: [of.crossing.id], goes });
      await client.invalidateQueries({ queryKey: ["site"] });
      say(
        `${of.here.end.name} goes ${goes === "both" ? "both ways" : goes === "there" ? "to there" : "from there"} now.`,
      );
    });
  const remove = (of: Named) =>
    attempt(async () => {
      await edit(`took ${of.there.end.name} out of the list ${list.name}`, [
        {
          kind: "crossing",
          id: of.crossing.id,
          base: site.versions["crossing:" + of.crossing.id] ?? 0,
          after: null,
        },
      ]);
      say("The name is out of the list. Ctrl Z takes it back.");
    });
  return (
    <>
      <div className={`soft small flex-none pb-1 font-semibold ${columns}`}>
        <span />
        <span>This side</span>
        <span className="text-center">goes</span>
        <span>Far name</span>
        <span />
      </div>
      <div ref={scroller} className="min-h-0 flex-1 overflow-y-auto">
        <div className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((item) => {
            const of = names[item.index];
            return (
              of && (
                <div
                  key={item.key}
                  ref={virtual.measureElement}
                  data-index={item.index}
                  className="absolute left-0 w-full"
                  style={{ transform: `translateY(${item.start}px)` }}
                >
                  <NameRow
                    of={of}
                    proof={proofs.get(of.there.id)}
                    carries={list.carries ?? ""}
                    onTurn={(goes) => void turn(of, goes)}
                    onRemove={() => void remove(of)}
                  />
                </div>
              )
            );
          })}
        </div>
      </div>
    </>
  );
}

function Side({ id, name, below, unit }: { id: string; name: string; below: string; unit: string }) {
  const live = useLive(id || undefined);
  const read = live && live.atMs > 0 && live.quality !== "bad";
  return (
    <span className="block min-w-0">
      <b className="block truncate" title={name}>
        {name}
      </b>
      <span className="mono flex justify-between gap-2">
        <span className="place soft" title={below}>
          <bdi dir="ltr">{below}</bdi>
        </span>
        {read ? (
          <span key={live.changedMs} className="fresh rounded px-1 whitespace-nowrap">
            {shown(live)} {unit}
          </span>
        ) : (
          <span className="soft whitespace-nowrap">{live?.quality === "bad" ? "cannot be read" : "not heard yet"}</span>
        )}
      </span>
    </span>
  );
}

const pointOf = (name: string) => name.slice(name.lastIndexOf(" · ") + 3);

function NameRow({
  of,
  proof,
  carries,
  onTurn,
  onRemove,
}: {
  of: Named;
  proof: Proof | undefined;
  carries: string;
  onTurn: (goes: Goes) => void;
  onRemove: () => void;
}) {
  const { kind, words } = useCrossingState(of.crossing);
  const wrong = proof && !["there", "not heard"].includes(proof.verdict);
  const [goes, setGoes] = useState(of.goes);
  useEffect(() => setGoes(of.goes), [of.goes]);
  const ways: Goes[] = carries === "takes" ? ["here"] : carries === "gives" ? ["there"] : ["there", "here", "both"];
  const heard = proof?.heard && `${proof.sentence} At ${clock(proof.heard.atMs)}.`;
  const below = wrong ? `${proof.verdict}: ${proof.sentence}` : kind === "good" ? (heard ?? "") : words;
  return (
    <div className="card mb-2 px-2 py-[5px]" data-name={of.crossing.id} data-verdict={proof?.verdict} data-state={kind}>
      <div className={columns}>
        <Mark kind={wrong ? "fault" : kind} label={wrong ? proof.sentence : words} />
        <Link to="/crossings/$id" params={{ id: of.crossing.id }} className="min-w-0">
          <Side
            id={of.here.id}
            name={of.here.end.name}
            below={`${of.here.end.type} · ${of.here.end.address}`}
            unit={of.here.end.unit}
          />
        </Link>
        <span className="flex flex-col items-center">
          <select
            className="input tight mono w-auto text-center"
            aria-label={`Which way ${of.here.end.name} goes`}
            value={goes}
            onChange={(e) => {
              setGoes(e.target.value as Goes);
              onTurn(e.target.value as Goes);
            }}
          >
            {ways.map((way) => (
              <option key={way} value={way}>
                {arrows[way]}
              </option>
            ))}
          </select>
          <span className="small soft max-w-full truncate" title={of.crossing.words}>
            {of.crossing.words}
          </span>
        </span>
        <Side
          id={of.there.id}
          name={pointOf(of.there.end.name)}
          below={of.there.end.address}
          unit={of.there.end.unit}
        />
        <button
          type="button"
          className="soft text-[16px] leading-none"
          aria-label={`Take ${of.there.end.name} out`}
          title="Take it out of the list"
          onClick={onRemove}
        >
          ×
        </button>
      </div>
      {below && <p className={`small pl-[30px] ${wrong || kind === "fault" ? "text-fault" : "soft"}`}>{below}</p>}
    </div>
  );
}
