import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { get, post, problemOf, useSite } from "../api/client";
import { useLivePart } from "../api/live";
import type {
  End,
  Kept,
  MachineView,
  Problem,
  RelayRequest,
  RelaysView,
  RelayState,
  SiteView,
  TakenView,
} from "../api/types.gen";
import { formatOf, formatWord, readFormat } from "../lines/serial";
import { shortened } from "../shared/LongName";
import { count } from "../shared/numbers";
import { attempt } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";
import { linkName } from "./lookouts";

/** What is typed of one end. */
interface Typed {
  how: End["how"];
  at: string;
  speaks: string;
  format: string;
  user: string;
  secret: string;
  pin: string;
  gender: string;
}

const plain = { speaks: "", format: "19200 8E1", user: "", secret: "", pin: "", gender: "" };

/** What is sent of an end: only what it has by its kind. */
function endOf(t: Typed): End {
  const end: End = { how: t.how, at: t.at.trim() };
  const tcp = t.how === "listen" || t.how === "call";
  if (tcp && t.speaks) end.speaks = t.speaks as End["speaks"];
  if (t.how === "port" || (tcp && t.speaks === "rfc2217")) end.format = readFormat(t.format);
  if (tcp && t.speaks === "tls-user") Object.assign(end, { user: t.user.trim(), secret: t.secret.trim() });
  if (t.how === "call" && t.speaks.startsWith("tls") && t.pin.trim()) end.pin = t.pin.trim();
  if (t.how === "port" && t.gender) end.gender = t.gender as End["gender"];
  return end;
}

/** Ferry between two ends, or listening at a line: what is said is recorded. */
export function RelaysPage() {
  const { data: site } = useSite();
  const { data } = useQuery({
    queryKey: ["relays"],
    queryFn: () => get<RelaysView>("/api/relays"),
    refetchInterval: 1000,
  });
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  return (
    <div className="min-w-0 flex-1 overflow-y-auto p-6" data-page="relays">
      <div className="flex items-center gap-3">
        <h2>Stand between two ends</h2>
        <Link to="/traffic/recordings" className="small underline">
          Recordings
        </Link>
        <Link to="/traffic" className="small underline">
          Back to traffic
        </Link>
      </div>
      <p className="soft mt-1 max-w-[80ch]">
        Have the asking program connect to Ferry in the place of the device. What each says is passed on at once and
        unchanged, writes too, and recorded.
      </p>
      <div className="mt-4 grid max-w-[1160px] grid-cols-[minmax(0,1fr)_minmax(0,330px)] items-start gap-4">
        <Between site={site} faults={data?.faults ?? []} />
        <Listening site={site} />
      </div>
      {(data?.relays.length ?? 0) > 0 && (
        <section className="mt-6 max-w-[1160px]" aria-label="At work">
          <h3>At work</h3>
          {data?.relays.map((r) => (
            <AtWork key={r.id} relay={r} />
          ))}
        </section>
      )}
    </div>
  );
}

/** A relay that is set up. */
function Between({ site, faults }: { site: SiteView; faults: RelaysView["faults"] }) {
  const client = useQueryClient();
  const mode = useLivePart((live) => live.state.mode);
  const [near, setNear] = useState<Typed>({ how: "listen", at: "127.0.0.1:4001", ...plain });
  const [far, setFar] = useState<Typed>({ how: "call", at: "", ...plain });
  const [link, setLink] = useState(site.links[0]?.id ?? "");
  const [allow, setAllow] = useState("");
  const [idle, setIdle] = useState("");
  const [escape, setEscape] = useState("");
  const [one, setOne] = useState(false);
  const [fault, setFault] = useState("");
  const [value, setValue] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const kind = faults.find((f) => f.kind === fault);
  const start = async () => {
    setProblem(undefined);
    try {
      const request: RelayRequest = {
        near: endOf(near),
        far: link
          ? { how: "call", at: "", ...(far.gender ? { gender: far.gender as End["gender"] } : {}) }
          : endOf(far),
        to: "",
        one,
        idle: Number(idle) || 0,
        escape: escape.trim(),
        allow: allow
          .split(/[\s,;]+/)
          .map((a) => a.trim())
          .filter(Boolean),
        link,
        fault: { kind: mode === "bench" ? fault : "", value: kind?.unit ? Number(value) || kind.default : 0 },
      };
      client.setQueryData(["relays"], await post<RelaysView>("/api/relays", request));
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <section className="card p-4" aria-label="A relay">
      <div className="grid grid-cols-2 gap-x-6">
        <fieldset>
          <legend className="mb-1 font-bold">Who asks</legend>
          <EndFields near typed={near} onType={(part) => setNear({ ...near, ...part })} />
        </fieldset>
        <fieldset>
          <legend className="mb-1 font-bold">Who answers</legend>
          <Row label="Passed on to">
            <select
              className="input"
              aria-label="Passed on to"
              value={link}
              onChange={(e) => setLink(e.target.value)}
              title={
                site.links.find((l) => l.id === link) &&
                linkName(
                  site,
                  site.links.find((l) => l.id === link)!,
                )
              }
            >
              {site.links.map((l) => (
                <option key={l.id} value={l.id}>
                  {shortened(site.devices.find((d) => d.id === l.answering)?.name ?? l.id, 30)}
                </option>
              ))}
              <option value="">something else…</option>
            </select>
          </Row>
          {!link && <EndFields typed={far} onType={(part) => setFar({ ...far, ...part })} />}
        </fieldset>
      </div>
      <div className="mt-3 grid grid-cols-2 gap-x-6 border-t border-rule pt-3">
        <div>
          <Row label="Lets in">
            <input
              className="input mono"
              aria-label="Lets in"
              value={allow}
              placeholder="everybody"
              title="Addresses and networks, such as 192.0.2.10, 10.20.0.0/24: a caller that any of them matches is let in"
              spellCheck={false}
              onChange={(e) => setAllow(e.target.value)}
            />
          </Row>
          <Row label="At a time">
            <select
              className="input"
              aria-label="At a time"
              value={one ? "one" : ""}
              onChange={(e) => setOne(e.target.value === "one")}
            >
              <option value="">many callers</option>
              <option value="one">one caller</option>
            </select>
          </Row>
          {mode === "bench" && (
            <Row label="Plays a fault">
              <span className="flex gap-2">
                <select
                  className="input"
                  aria-label="Plays a fault"
                  value={fault}
                  onChange={(e) => {
                    setFault(e.target.value);
                    setValue(String(faults.find((f) => f.kind === e.target.value)?.default ?? ""));
                  }}
                >
                  {faults.map((f) => (
                    <option key={f.kind} value={f.kind}>
                      {f.title}
                    </option>
                  ))}
                </select>
                {kind?.unit && (
                  <input
                    className="input mono !w-[84px]"
                    aria-label={kind.unit}
                    title={kind.unit}
                    value={value}
                    onChange={(e) => setValue(e.target.value)}
                  />
                )}
              </span>
            </Row>
          )}
        </div>
        <div>
          <Row label="Idle limit, s">
            <input
              className="input mono"
              aria-label="Idle limit, s"
              value={idle}
              placeholder="never"
              onChange={(e) => setIdle(e.target.value)}
            />
          </Row>
          <Row label="Escape octets">
            <input
              className="input mono"
              aria-label="Escape octets"
              value={escape}
              placeholder="nothing"
              title="Octets in hexadecimal that end a caller, such as 2B 2B 2B; leave it empty for protocols of frames"
              spellCheck={false}
              onChange={(e) => setEscape(e.target.value)}
            />
          </Row>
        </div>
      </div>
      {mode === "plant" && (
        <p className="small soft mt-2">On the plant, writing has to be unlocked when a relay is started.</p>
      )}
      {problem && <ProblemNotice problem={problem} />}
      <button type="button" className="button main mt-3" onClick={() => void start()}>
        Start the relay
      </button>
    </section>
  );
}

function Row({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <div className="grid grid-cols-[104px_minmax(0,1fr)] items-center gap-x-3 py-1">
      <span className="small soft">{label}</span>
      {children}
    </div>
  );
}

/** How an end is reached, and what it speaks. */
function EndFields({
  near,
  typed: t,
  onType,
}: {
  near?: boolean;
  typed: Typed;
  onType: (part: Partial<Typed>) => void;
}) {
  const { data: machine } = useQuery({
    queryKey: ["machine"],
    queryFn: () => get<MachineView>("/api/machine"),
    enabled: t.how === "port",
  });
  const { data: kept } = useQuery({
    queryKey: ["kept"],
    queryFn: () => get<Kept[]>("/api/kept"),
    enabled: t.speaks === "tls-user",
  });
  const tcp = t.how === "listen" || t.how === "call";
  const of = near ? "of who asks" : "of who answers";
  const text = (label: string, key: keyof Typed, placeholder: string) => (
    <Row label={label}>
      <input
        className="input mono"
        aria-label={near && key === "at" && t.how === "listen" ? "Callers connect to" : `${label} ${of}`}
        value={t[key]}
        placeholder={placeholder}
        spellCheck={false}
        onChange={(e) => onType({ [key]: e.target.value })}
      />
    </Row>
  );
  return (
    <>
      <Row label="How">
        <select
          className="input"
          aria-label={`How ${of}`}
          value={t.how}
          onChange={(e) => onType({ how: e.target.value as End["how"] })}
        >
          <option value="listen">it calls Ferry, over TCP</option>
          <option value="call">Ferry calls it, over TCP</option>
          <option value="port">a serial port of this machine</option>
          <option value="datagrams">datagrams, over UDP</option>
        </select>
      </Row>
      {t.how === "port" ? (
        <>
          <Row label="Port">
            <input
              className="input mono"
              aria-label={`Port ${of}`}
              list={`ports-${near ? "near" : "far"}`}
              value={t.at}
              placeholder="/dev/ttyUSB0"
              spellCheck={false}
              onChange={(e) => onType({ at: e.target.value })}
            />
            <datalist id={`ports-${near ? "near" : "far"}`}>
              {machine?.ports.map((p) => (
                <option key={p.path} value={p.path}>
                  {p.path}
                </option>
              ))}
            </datalist>
          </Row>
          <Row label="Joined to it">
            <select
              className="input"
              aria-label={`Joined to it ${of}`}
              value={t.gender}
              onChange={(e) => onType({ gender: e.target.value })}
            >
              <option value="">not known</option>
              <option value="dce">a DCE</option>
              <option value="dte">a DTE</option>
            </select>
          </Row>
        </>
      ) : (
        text(t.how === "call" || (t.how === "datagrams" && !near) ? "Address" : "Waits at", "at", "127.0.0.1:4001")
      )}
      {tcp && (
        <Row label="Speaks">
          <select
            className="input"
            aria-label={`Speaks ${of}`}
            value={t.speaks}
            onChange={(e) => onType({ speaks: e.target.value })}
          >
            <option value="">the octets alone</option>
            <option value="tls">TLS</option>
            <option value="tls-user">TLS, with a user</option>
            <option value="rfc2217">RFC 2217, which sets the far port</option>
          </select>
        </Row>
      )}
      {(t.how === "port" || (tcp && t.speaks === "rfc2217")) && text("Set to", "format", "19200 8E1")}
      {tcp && t.speaks === "tls-user" && (
        <>
          {text("User", "user", "")}
          <Row label="Secret">
            <select
              className="input"
              aria-label={`Secret ${of}`}
              value={t.secret}
              onChange={(e) => onType({ secret: e.target.value })}
            >
              <option value="">by its name…</option>
              {kept
                ?.filter((k) => k.kind === "secret")
                .map((k) => (
                  <option key={k.name} value={k.name}>
                    {k.name}
                  </option>
                ))}
            </select>
          </Row>
        </>
      )}
      {t.how === "call" && t.speaks.startsWith("tls") && text("Fingerprint", "pin", "one that this machine trusts")}
    </>
  );
}

/** A serial line that is only listened to. */
function Listening({ site }: { site: SiteView }) {
  const client = useQueryClient();
  const mode = useLivePart((live) => live.state.mode);
  const lines = site.lines.filter((l) => l.medium === "serial");
  const [line, setLine] = useState(lines[0]?.id ?? "");
  const [port, setPort] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const chosen = lines.find((l) => l.id === line);
  const start = async () => {
    setProblem(undefined);
    try {
      const request: RelayRequest = {
        near: { how: "port", at: port.trim() },
        far: { how: "listen", at: "" },
        to: "",
        watch: true,
        line,
      };
      client.setQueryData(["relays"], await post<RelaysView>("/api/relays", request));
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <section className="card p-4" aria-label="Listen to a serial line">
      <h3>Listen to a serial line</h3>
      <p className="small soft mt-1">
        A second port that is joined to the line hears both ends, and sends nothing. What it hears is kept as a
        recording and judged.
      </p>
      <Row label="Line">
        <select className="input" aria-label="Line" value={line} onChange={(e) => setLine(e.target.value)}>
          {lines.map((l) => (
            <option key={l.id} value={l.id}>
              {l.name}
            </option>
          ))}
        </select>
      </Row>
      <p className="small soft">{chosen && `set to ${formatWord(formatOf(chosen))}`}</p>
      {mode === "plant" && (
        <Row label="Port">
          <input
            className="input mono"
            aria-label="Port that listens"
            value={port}
            placeholder="/dev/ttyUSB1"
            spellCheck={false}
            onChange={(e) => setPort(e.target.value)}
          />
        </Row>
      )}
      {problem && <ProblemNotice problem={problem} />}
      <button type="button" className="button mt-3" disabled={!line} onClick={() => void start()}>
        Listen
      </button>
    </section>
  );
}

/** One that is at work: what passed, what that means, and how it is kept. */
function AtWork({ relay: r }: { relay: RelayState }) {
  const client = useQueryClient();
  const mode = useLivePart((live) => live.state.mode);
  const navigate = useNavigate();
  const end = () =>
    attempt(async () => {
      client.setQueryData(["relays"], await post<RelaysView>(`/api/relays/${r.id}/stop`));
    });
  const keep = () =>
    attempt(async () => {
      const taken = await post<TakenView>(`/api/relays/${r.id}/keep`);
      await client.invalidateQueries({ queryKey: ["recordings"] });
      void navigate({ to: "/traffic/recordings/$id", params: { id: taken.id } });
    });
  return (
    <div className="border-b border-rule py-2" data-relay={r.id}>
      <div className="flex items-center gap-3">
        <span className="min-w-0 flex-1">
          {r.watch ? (
            <>
              hears <b>{r.to}</b> at <span className="mono">{r.near.at}</span>
            </>
          ) : (
            <>
              <span className="mono">{r.near.at}</span> → <b>{r.to}</b>
            </>
          )}
          <span className="small soft block">
            {r.watch
              ? `${count(r.received, "octet")} heard`
              : `${count(r.open, "caller")} now, ${r.callers} so far${r.away > 0 ? `, ${r.away} turned away` : ""} · ` +
                `${count(r.sent, "octet")} out, ${count(r.received, "octet")} back`}
            {r.fault?.kind && " · plays a fault"}
          </span>
        </span>
        {mode === "bench" && !r.watch && r.near.how === "listen" && !r.near.speaks && (
          <button
            type="button"
            className="button tight"
            title="The bench plays the program that asks, until the relay is stopped"
            onClick={() => void attempt(() => post(`/api/relays/${r.id}/ask`))}
          >
            Have the bench ask
          </button>
        )}
        <button type="button" className="button tight" onClick={() => void keep()}>
          Keep as a recording
        </button>
        <button type="button" className="button tight" onClick={() => void end()}>
          Stop
        </button>
      </div>
      {r.says && <p className="notice doubt mt-1">{r.says}</p>}
      {r.notes.map((n) => (
        <p key={n} className="small soft mt-1">
          {n}
        </p>
      ))}
      {r.shows && (
        <p className="small soft mt-1 break-all">
          Callers are shown the certificate <span className="mono">{r.shows}</span>
        </p>
      )}
    </div>
  );
}
