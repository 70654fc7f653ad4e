import { Link } from "@tanstack/react-router";
import { deviceOf, nameOf } from "../api/site";
import type { Facing, FacingAlive, FacingPart, FacingRow, FacingWay, LinkView, SiteView } from "../api/types.gen";
import { LongName } from "../shared/LongName";
import { Mark, markOf } from "../shared/Mark";
import { AskButton, ConfigurationTable } from "./ConfigurationTable";

/** Both ends of a connection whose sizes have to come to the same, each as it counts. */
export function FacingPage({ site, link, facing }: { site: SiteView; link: LinkView; facing: Facing }) {
  const protocol = site.protocols.find((p) => p.name === link.protocol);
  const host = (id: string) => deviceOf(site, id)?.ports.find((p) => p.line === link.line)?.host ?? "";
  const most = Math.max(1, ...facing.ways.flatMap((w) => [w.askingOctets, w.answerOctets]));
  const end = (id: string, word: string, right?: boolean) => (
    <div className={"card min-w-0 flex-1 p-3 " + (right ? "text-right" : "")}>
      <div className="small soft">{word}</div>
      <div className={"flex min-w-0 items-baseline gap-2 " + (right ? "justify-end" : "")}>
        <Link to="/lines/$kind/$id" params={{ kind: "device", id }} className="min-w-0 font-semibold hover:underline">
          <LongName name={nameOf(site, id)} />
        </Link>
        <span className="mono shrink-0">{host(id)}</span>
      </div>
    </div>
  );
  return (
    <div data-testid="facing">
      <p className="mb-3">
        <Link to="/lines" className="small underline">
          All lines
        </Link>
      </p>
      <div className="mb-4 flex gap-[clamp(16px,8vw,120px)]">
        {end(link.asking, `asks · ${protocol?.asker ?? ""}`)}
        {end(link.answering, `answers · ${protocol?.answerer ?? ""}`, true)}
      </div>
      {facing.ways.map((w) => (
        <Way key={w.area} site={site} link={link} way={w} most={most} />
      ))}
      {facing.rows.map((r) => (
        <Row key={r.title} link={link} row={r} />
      ))}
      <Alive alive={facing.alive} />
    </div>
  );
}

function Verdict({ kind, says }: { kind: string; says: string }) {
  return (
    <span className="chip inline-flex items-center gap-2" style={{ background: `var(--${kind}-wash)` }}>
      <Mark kind={markOf(kind)} size={15} /> {says}
    </span>
  );
}

const colours: Record<FacingPart["kind"], string> = {
  data: "var(--tide)",
  sequence: "var(--series3)",
  header: "var(--series2)",
};

/** The octets that one end counts, as wide as they are many. */
function Strip({ parts, most, right }: { parts: FacingPart[]; most: number; right?: boolean }) {
  return (
    <div className={"flex min-w-0 flex-1 gap-[2px] " + (right ? "" : "justify-end")}>
      {parts.map((p) => (
        <div
          key={p.kind}
          data-part={p.kind}
          title={`${p.title}: ${p.octets} octets`}
          className="mono overflow-hidden px-[6px] py-[5px] text-[12px] text-ellipsis whitespace-nowrap"
          style={{
            background: colours[p.kind],
            color: "var(--tide-text)",
            width: `${Math.max(p.kind === "data" ? 18 : p.kind === "header" ? 24 : 16, (p.octets / most) * 84)}%`,
          }}
        >
          {p.title}
        </div>
      ))}
    </div>
  );
}

function Way({ site, link, way, most }: { site: SiteView; link: LinkView; way: FacingWay; most: number }) {
  const [from, to] = way.into ? [link.answering, link.asking] : [link.asking, link.answering];
  const equal = way.askingOctets === way.answerOctets;
  const bad = way.verdict === "fault";
  return (
    <section
      className="card mb-4 p-4"
      style={bad ? { borderColor: "var(--fault)" } : undefined}
      data-way={way.area}
      data-verdict={way.verdict}
    >
      <div className="mb-2 flex flex-wrap items-center gap-x-3 gap-y-1">
        <h3 className="flex min-w-0 items-baseline gap-1">
          <LongName name={nameOf(site, from)} /> → <LongName name={nameOf(site, to)} />
        </h3>
        <span className="small soft min-w-0 flex-1">
          {way.said} {way.into ? "→" : "←"}{" "}
          <Link to="/points/$device" params={{ device: link.answering }} className="underline">
            map
          </Link>
        </span>
        <Verdict kind={way.verdict} says={way.says} />
      </div>
      <div className="flex items-center gap-4">
        <Strip parts={way.asking} most={most} />
        <b className="mono shrink-0" style={bad ? { color: "var(--fault)" } : undefined}>
          {way.askingOctets} {equal ? "=" : "≠"} {way.answerOctets || "?"}
        </b>
        <Strip parts={way.answering} most={most} right />
      </div>
      <div className="mono soft small mt-2 flex justify-between gap-4">
        <span>{way.askingRemark}</span>
        <span className="text-right">
          {[way.answerRemark, way.free > 0 ? `${way.free} octet${way.free > 1 ? "s" : ""} free` : ""]
            .filter(Boolean)
            .join("; ")}
        </span>
      </div>
    </section>
  );
}

function Row({ link, row }: { link: LinkView; row: FacingRow }) {
  const configuration = row.area && link.configuration?.area === row.area ? link.configuration : undefined;
  return (
    <section className="card mb-4 flex flex-wrap items-center gap-x-3 gap-y-1 px-4 py-3" data-row={row.title}>
      <h3>{row.title}</h3>
      <span className="small soft min-w-0 flex-1">{row.said}</span>
      <Verdict kind={row.verdict} says={row.says} />
      {row.asks && !configuration && <AskButton link={link} />}
      {configuration && <ConfigurationTable link={link} configuration={configuration} />}
    </section>
  );
}

/** When packets go each way, on one axis of time. */
function Alive({ alive }: { alive: FacingAlive }) {
  const span = Math.max(alive.inMs, alive.outMs) * 4.2;
  const ticks = (every: number, offset: number) => {
    const list: number[] = [];
    for (let t = offset; t < span && list.length < 120; t += every) list.push((t / span) * 100);
    return list;
  };
  const track = (every: number, offset: number, colour: string, word: string) => (
    <div className="relative my-[6px] h-[12px]" role="img" aria-label={`a packet ${word} every ${every} ms`}>
      <span className="absolute top-[3px] right-0 left-0 h-[6px]" style={{ background: "var(--rule)" }} />
      {ticks(every, offset).map((at) => (
        <span key={at} className="absolute top-0 h-[12px] w-[5px]" style={{ left: `${at}%`, background: colour }} />
      ))}
    </div>
  );
  return (
    <section className="card mb-4 p-4" data-testid="alive">
      <div className="mb-2 flex flex-wrap items-center gap-x-3 gap-y-1">
        <h3>Kept alive</h3>
        <span className="small soft min-w-0 flex-1">
          silence of {alive.multiplier} × {alive.inMs} ms drops it one way, {alive.multiplier} × {alive.outMs} ms the
          other
        </span>
        <Verdict kind={alive.verdict} says={alive.says} />
      </div>
      {track(alive.inMs, alive.inMs / 8, "var(--tide)", "in")}
      {track(alive.outMs, alive.outMs / 6, "var(--series2)", "out")}
    </section>
  );
}
