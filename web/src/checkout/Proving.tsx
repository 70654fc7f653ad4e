import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";
import { get, person, post, problemOf } from "../api/client";
import { stream, useLive, useLivePart } from "../api/live";
import { nameOf } from "../api/site";
import type {
  FarView,
  Problem,
  ProofRequest,
  ProofView,
  ProverView,
  ProvingPoint,
  RecordedView,
  SiteView,
  VerdictView,
} from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { say } from "../shared/toast";
import { clock, ProblemNotice, shown } from "../shared/ui";
import { Command, type Commanded } from "./Commanded";
import { Explained } from "./Explained";
import { History } from "./History";
import { Shores } from "./Shores";

type Asking = "reason" | "remark";

/** For how long after a point was opened nobody can have looked at it, in milliseconds. */
const unseenFor = 400;

/** One point: what Ferry reads, what the device's own display shows, and what the far shore shows. */
export function Proving({
  site,
  device,
  point,
  points,
  next,
  left,
  all,
  onGo,
}: {
  site: SiteView;
  device: string;
  point: ProvingPoint;
  points: ProvingPoint[];
  next?: string;
  left: number;
  all: number;
  onGo: (step: -1 | 1 | "left") => void;
}) {
  const client = useQueryClient();
  const live = useLive(point.point);
  const proved = useLivePart((l) => l.proved);
  const provers = useLivePart((l) => l.provers);
  const { data: view } = useQuery({
    queryKey: ["checkout", "point", point.point, proved, Math.floor((live?.atMs ?? 0) / 1000)],
    queryFn: () => get<ProofView>(`/api/checkout/points/${point.point}`),
    placeholderData: (old) => (old?.point === point.point ? old : undefined),
  });
  const [typed, setTyped] = useState("");
  const [verdict, setVerdict] = useState<VerdictView>();
  const [problem, setProblem] = useState<Problem>();
  const [asking, setAsking] = useState<Asking>();
  const [words, setWords] = useState("");
  const [remark, setRemark] = useState("");
  const [from, setFrom] = useState<{ shown: string; atMs: number; states: string[] }>();
  const [wrong, setWrong] = useState(false);
  const [commanded, setCommanded] = useState<Commanded>();
  const [busy, setBusy] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const [opened] = useState(() => Date.now());
  const letters = !!point.names?.length || point.twoState || /^text|^bytes/.test(point.type);
  const read = live && live.atMs > 0 && live.quality !== "bad" ? live : undefined;
  const moved =
    from && live && live.atMs > from.atMs && (live.shown !== from.shown || from.states.length > 1) ? live : undefined;
  const states = point.twoState ? ["off", "on"] : (point.names?.map((n) => `${n.value} · ${n.name}`) ?? []);
  const unseen = from ? states.filter((s) => !from.states.includes(s)) : [];
  // Of states all that were seen since are kept.
  useEffect(() => {
    if (live?.shown)
      setFrom((f) => (f && !f.states.includes(live.shown) ? { ...f, states: [...f.states, live.shown] } : f));
  }, [live?.shown]);

  useEffect(() => {
    input.current?.focus();
  }, []);
  // Others see at which point somebody is.
  useEffect(() => {
    const tell = (at: string) => post<ProverView[]>("/api/checkout/at", { window: stream, point: at }).catch(() => {});
    void tell(point.point);
    const again = setInterval(() => void tell(point.point), 8000);
    return () => {
      clearInterval(again);
      void tell("");
    };
  }, [point.point]);
  // What is typed is judged again with each value that comes.
  useEffect(() => {
    if (!typed.trim()) {
      setVerdict(undefined);
      setProblem(undefined);
      return;
    }
    let over = false;
    const late = setTimeout(() => {
      post<VerdictView>("/api/checkout/judge", { point: point.point, shown: typed })
        .then((v) => {
          if (over) return;
          setVerdict(v);
          setProblem(undefined);
        })
        .catch((error: unknown) => {
          if (over) return;
          setVerdict(undefined);
          setProblem(problemOf(error));
        });
    }, 120);
    return () => {
      over = true;
      clearTimeout(late);
    };
  }, [typed, live?.atMs, point.point]);

  const seen = (what: Commanded | undefined) => {
    setCommanded(what);
    if (what) input.current?.focus(); // Enter is what comes next
  };
  const record = async (order: Omit<ProofRequest, "points">) => {
    if (busy) return;
    setBusy(true);
    setProblem(undefined);
    try {
      await post<RecordedView>("/api/checkout", {
        ...order,
        remark: [order.remark, remark].filter(Boolean).join("; ") || undefined,
        points: [
          {
            point: point.point,
            shown: typed.trim() || undefined,
            read: verdict?.read ?? read?.shown,
            readAtMs: verdict?.readAtMs ?? read?.atMs,
            versions: view?.versions,
          },
        ],
      } as ProofRequest);
      await client.invalidateQueries({ queryKey: ["checkout"] });
      if (order.result === "wrong") setWrong(true);
      else {
        say(`${point.name}: ${order.result === "cannot" ? "cannot be tested" : order.result}.`);
        onGo("left");
      }
    } catch (error) {
      setProblem(problemOf(error));
    }
    setBusy(false);
  };
  const movedWords = states.length
    ? `seen as ${from?.states.join(", ")}${unseen.length ? `; not as ${unseen.join(", ")}` : ", which is all of its states"}`
    : `moved from ${from?.shown} to ${moved?.shown}`;
  const right = () => {
    if (moved) return void record({ result: "right", method: "moved", remark: movedWords });
    if (commanded && !typed.trim()) return void record({ result: "right", method: "command", remark: commanded.says });
    if (typed.trim()) {
      // What was typed a moment ago may not have been judged yet: the record judges it once more.
      if (verdict && !verdict.agrees) return;
      return void record({ result: "right", method: "display" });
    }
    if (wrong) return onGo("left");
    // Pressed twice it is no proof of the next point, which nobody has seen yet.
    if (Date.now() - opened > unseenFor) void record({ result: "right", method: "seen" });
  };
  const commands: Record<string, () => void> = {
    w: () => void record({ result: "wrong", method: typed.trim() ? "display" : "seen" }),
    n: () => setAsking("reason"),
    r: () => setAsking("remark"),
    m: () =>
      setFrom(
        read
          ? { shown: read.shown, atMs: read.atMs, states: [read.shown] }
          : { shown: "nothing", atMs: Date.now(), states: [] },
      ),
  };
  const onKey = (e: React.KeyboardEvent) => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      onGo(e.key === "ArrowDown" ? 1 : -1);
    } else if (e.key === "Enter") {
      e.preventDefault();
      if (!e.repeat) right(); // a key that is held proves nothing
    } else if (e.key === "Escape") {
      setTyped("");
      setFrom(undefined);
    } else if (commands[e.key.toLowerCase()] && e.altKey) {
      e.preventDefault();
      commands[e.key.toLowerCase()]?.();
    }
  };
  /** No number has such a letter: it is a command, also where a screen has the keys. */
  const type = (text: string) => {
    const command = letters ? undefined : commands[text.slice(-1).toLowerCase()];
    if (command && text.length > typed.length) command();
    else setTyped(text);
  };
  const others = provers.filter((p) => p.point === point.point && p.window !== stream);
  const into = view?.far.filter((f) => f.into) ?? [];
  const agreed = moved || (verdict?.agrees ?? false);
  return (
    <div data-testid="proving">
      <p className="small soft">
        {left} of {all} left on this walk
        {view?.line && <> · {view.line}</>} · <span className="mono">{point.address}</span>, {point.type} {point.order}
        {into[0] && (
          <>
            {" "}
            · crosses to{" "}
            <Link to="/crossings/$id" params={{ id: into[0].crossing }} className="underline">
              {into[0].name}
            </Link>
          </>
        )}
      </p>
      <h2 className="mb-3 text-[24px] break-words">
        {nameOf(site, device)} · {point.name}
      </h2>
      {others.length > 0 && (
        <div className="notice doubt mb-3" role="status">
          <b>{others.map((o) => o.who).join(", ")}</b> {others.length > 1 ? "are" : "is"} proving this point too.
        </div>
      )}
      {point.state === "again" && (
        <div className="notice doubt mb-3">
          <b>To be proved again:</b> {point.changed?.join("; ")}.
        </div>
      )}
      <div className="mb-3 grid grid-cols-3 gap-3 max-[900px]:grid-cols-1">
        <section className="card p-4" aria-label="Ferry reads">
          <div className="small soft">Ferry reads</div>
          <div className="mono text-[30px] leading-tight font-semibold break-words" data-testid="reads">
            {read ? shown(read) : "—"} <span className="text-[22px]">{read ? point.unit : ""}</span>
          </div>
          <div className="mono soft small break-words">
            {live && live.atMs > 0 ? `${live.words ? live.words + " · " : ""}${clock(live.atMs)}` : "not read yet"}
          </div>
          {live && live.quality !== "good" && live.reason && <div className="small">{live.reason}</div>}
        </section>
        <section className="card p-4" aria-label="The device's own display">
          <label className="small soft" htmlFor="shown">
            the device’s own display shows
          </label>
          <input
            id="shown"
            ref={input}
            className="input mono mt-1 !h-[48px] text-[24px]"
            value={typed}
            autoComplete="off"
            spellCheck={false}
            list={letters ? "states" : undefined}
            inputMode={letters ? "text" : "decimal"}
            onChange={(e) => type(e.target.value)}
            onKeyDown={onKey}
          />
          {letters && (
            <datalist id="states">
              {(point.twoState ? ["on", "off"] : (point.names?.map((n) => n.name) ?? [])).map((n) => (
                <option key={n}>{n}</option>
              ))}
            </datalist>
          )}
          <div className="small soft mt-1">
            {verdict
              ? verdict.within > 0
                ? `within ${Number(verdict.within.toPrecision(3))}, ${verdict.says}`
                : verdict.says
              : "type it, or confirm what Ferry reads with Enter"}
          </div>
        </section>
        <Far list={view?.far ?? []} />
      </div>
      <div aria-live="polite">
        {problem && <ProblemNotice problem={problem} />}
        {!problem && agreed && (
          <div className="notice good mt-2" data-testid="agrees">
            <b>
              {moved
                ? states.length
                  ? `It was ${movedWords}.`
                  : `It moved from ${from?.shown} to ${moved.shown} at ${clock(moved.atMs)}.`
                : verdict?.earlierMs
                  ? `They agree: ${verdict.read} was read ${(verdict.earlierMs / 1000).toFixed(1)} s ago.`
                  : "They agree."}
            </b>{" "}
            Enter keeps it{next ? <> and goes on to {next}</> : ""}.
          </div>
        )}
        {!problem && verdict && !verdict.agrees && (
          <div className="notice mt-2" data-testid="apart">
            <b>
              They are {verdict.apart ? Number(verdict.apart.toPrecision(4)) + " apart" : "not the same"}: Ferry reads{" "}
              {verdict.read}.
            </b>{" "}
            {letters ? "Alt W" : "W"} keeps it as wrong, with what explains it.
          </div>
        )}
        {from && !moved && (
          <div className="notice doubt mt-2" role="status">
            <b>Move the input now.</b> It stands at {from.shown}; the first change is seen here.
          </div>
        )}
      </div>
      {asking && (
        <form
          className="mt-3 flex gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            if (asking === "remark") {
              setRemark(words.trim());
              setAsking(undefined);
              input.current?.focus();
            } else if (words.trim()) void record({ result: "cannot", reason: words.trim() });
            setWords("");
          }}
        >
          <input
            className="input"
            aria-label={asking === "reason" ? "Why it cannot be tested" : "Remark"}
            placeholder={asking === "reason" ? "why it cannot be tested: guard closed" : "a remark for the record"}
            // oxlint-disable-next-line jsx-a11y/no-autofocus -- a key has just asked for it
            autoFocus
            value={words}
            onChange={(e) => setWords(e.target.value)}
            onKeyDown={(e) => {
              if (e.key !== "Escape") return;
              setAsking(undefined);
              input.current?.focus();
            }}
          />
          <button type="submit" className="button">
            Keep
          </button>
        </form>
      )}
      {remark && <p className="small soft mt-2">Remark: {remark}</p>}
      <div className="mt-4 flex flex-wrap gap-2" role="group" aria-label="Results">
        <Key keys="Enter" says="right, next" main onPress={right} />
        <Key keys={letters ? "Alt W" : "W"} says="wrong" onPress={commands.w} />
        <Key keys={letters ? "Alt N" : "N"} says="cannot be tested" onPress={commands.n} />
        <Key keys={letters ? "Alt R" : "R"} says="remark" onPress={commands.r} />
        <Key keys={letters ? "Alt M" : "M"} says="make it move and watch" onPress={commands.m} />
        <Key keys="↑" says="back" onPress={() => onGo(-1)} />
        <Key keys="↓" says="on" onPress={() => onGo(1)} />
      </div>
      {wrong && <Explained site={site} device={device} point={point.point} shows={typed.trim()} />}
      {point.writable && <Command key={point.point} point={point} points={points} onSeen={seen} />}
      <Shores point={point.point} far={into[0]?.point} apart={(into[0]?.unit ?? "") !== (point.unit ?? "")} />
      <History view={view} point={point.point} onGone={() => setWrong(false)} />
      <Person />
    </div>
  );
}

/** A key, which is a button for those who prove by touch. */
function Key({ keys, says, main, onPress }: { keys: string; says: string; main?: boolean; onPress?: () => void }) {
  return (
    <button
      type="button"
      className={"button flex items-center gap-2 " + (main ? "main" : "")}
      // The keys go on where they were typed.
      onMouseDown={(e) => e.preventDefault()}
      onClick={onPress}
    >
      <kbd className="mono">{keys}</kbd> {says}
    </button>
  );
}

/** What stands at the other ends of the crossings of a point. */
function Far({ list }: { list: FarView[] }) {
  if (list.length === 0)
    return (
      <section className="card p-4" aria-label="The far shore">
        <div className="small soft">the far shore</div>
        <p className="soft mt-1">It crosses to nowhere.</p>
      </section>
    );
  return (
    <section className="card p-4" aria-label="The far shore">
      {list.slice(0, 3).map((f, i) => (
        <FarPoint key={f.crossing} far={f} first={i === 0} />
      ))}
      {list.length > 3 && <p className="small soft">and {list.length - 3} more</p>}
    </section>
  );
}

function FarPoint({ far, first }: { far: FarView; first: boolean }) {
  const live = useLive(far.point);
  const read = live && live.atMs > 0 && live.quality !== "bad" ? live : undefined;
  return (
    <div className={first ? "" : "mt-2"}>
      <div className="small soft">{far.into ? "the far shore shows" : "it comes from"}</div>
      <div className={"mono leading-tight font-semibold break-words " + (first ? "text-[30px]" : "text-[18px]")}>
        {read ? shown(read) : "—"} <span className={first ? "text-[22px]" : ""}>{read ? far.unit : ""}</span>
      </div>
      <div className="mono soft small break-words">
        {far.name}
        {far.off && " · switched off"}
        {far.expected && (
          <>
            {" "}
            · {far.expected} expected{" "}
            <span className="inline-block align-[-2px]">
              <Mark kind={far.agrees ? "good" : "doubt"} size={13} />
            </span>
          </>
        )}
      </div>
    </div>
  );
}

/** Under whose name it is recorded. */
function Person() {
  const [name, setName] = useState(person.name());
  return (
    <label className="small soft mt-5 flex items-center gap-2">
      Recorded under the name
      <input
        className="input !w-[200px]"
        value={name}
        placeholder="this window"
        onChange={(e) => {
          setName(e.target.value);
          person.set(e.target.value.trim().slice(0, 60));
        }}
      />
    </label>
  );
}
