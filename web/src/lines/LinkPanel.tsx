import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { post, useEdit } from "../api/client";
import { useLiveState } from "../api/live";
import { deviceOf, lineOf, nameOf } from "../api/site";
import type { Format, LinkView, Route, SiteView } from "../api/types.gen";
import { Mark, markOf } from "../shared/Mark";
import { RouteStops } from "../shared/RouteStops";
import { withoutPoints } from "../shared/useDeviceEditor";
import { useObjectEditor } from "../shared/useObjectEditor";
import { attempt, say } from "../shared/toast";
import { clock, SettingFixes } from "../shared/ui";
import { FacingCards, settled, Standing } from "./FacingCards";
import { FaultSelect } from "./FaultSelect";
import { formatOf, formatWord } from "./serial";
import { SweepProgress, useSweep } from "./Sweep";
import { PairNow } from "./Redundant";
import { Offers } from "./Offers";
import { SettingField } from "./SettingField";
import { readValue } from "./settings";

const stopTitles: Record<string, string> = {
  wire: "Wire",
  address: "Address",
  session: "Session",
  points: "Points",
  pace: "Pace",
};

/** A link: where the message stops, both ends face to face, and what to put right. */
export function LinkPanel({ site, link }: { site: SiteView; link: LinkView }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const edit = useEdit();
  const { state, findings } = useLiveState();
  const version = site.versions["link:" + link.id] ?? 0;
  const editor = useObjectEditor("link", link, version, settled);
  const [trying, setTrying] = useState(false);
  const [asked, setAsked] = useState(false);
  const name = (id: string) => nameOf(site, id);
  const protocol = site.protocols.find((p) => p.name === link.protocol);
  const route = site.routes.find((r) => r.link === link.id);
  const tryIt = async () => {
    setTrying(true);
    await attempt(async () => {
      await post<Route>(`/api/links/${link.id}/try`);
      await client.invalidateQueries({ queryKey: ["site"] });
    });
    setTrying(false);
  };
  const remove = () =>
    attempt(async () => {
      await edit(`removed the link ${name(link.asking)} → ${name(link.answering)}`, [
        { kind: "link", id: link.id, base: version, after: null },
      ]);
      say("The link is gone. Ctrl Z takes it back.");
      await navigate({ to: "/lines" });
    });
  const running = state.running.includes(link.id);
  const run = () => attempt(() => post(`/api/run/${running ? "stop" : "start"}`, { links: [link.id] }));
  const alike = (key: string, value: string) =>
    attempt(() => {
      editor.begin();
      return editor.commit(`set ${key} of the asking end as the answering end has it`, {
        settings: {
          ...link.settings,
          [key]: readValue(
            protocol?.settings.find((s) => s.key === key),
            value,
          ),
        },
      });
    });
  // A serial setting is put right in the device by hand; here it is noted.
  const answering = deviceOf(site, link.answering);
  const asLine = (key: string) =>
    attempt(async () => {
      if (!answering) return;
      const ports = answering.ports.map((p) =>
        p.line === link.line ? { ...p, serial: { ...p.serial, [key]: undefined } } : p,
      );
      await edit(`noted that ${answering.name} is set as its line`, [
        {
          kind: "device",
          id: answering.id,
          base: site.versions["device:" + answering.id] ?? 0,
          after: { ...withoutPoints(answering), ports },
        },
      ]);
    });
  const line = lineOf(site, link.line);
  const { sweep, start, stop } = useSweep();
  const sweepFormats = () => start({ kind: "formats", line: link.line, link: link.id });
  const found = sweep && !sweep.running ? sweep.found[0]?.format : undefined;
  const note = (f: Format) =>
    attempt(async () => {
      if (!answering) return;
      const own = line && formatOf(line);
      const ports = answering.ports.map((p) =>
        p.line === link.line
          ? {
              ...p,
              unknown: p.unknown?.filter((k) => !["baud", "parity", "data", "stop"].includes(k)),
              serial: {
                ...p.serial,
                baud: differs(f.baud, own?.baud),
                parity: differs(f.parity, own?.parity),
                data: differs(f.data, own?.data),
                stop: differs(f.stop, own?.stop),
              },
            }
          : p,
      );
      await edit(`noted that ${answering.name} is set to ${formatWord(f)}`, [
        {
          kind: "device",
          id: answering.id,
          base: site.versions["device:" + answering.id] ?? 0,
          after: { ...withoutPoints(answering), ports },
        },
      ]);
    });
  const told = route?.stops.filter((s) => s.saw) ?? [];
  const stopped = route?.stops.find((s) => s.stop === route.stopsAt);
  const tried = !!route?.at && !route.at.startsWith("0001");
  return (
    <aside className="panel" aria-label="Link">
      <div className="small soft">Link · {protocol?.title}</div>
      <h2 className="mb-3 break-words">
        <Link to="/lines/$kind/$id" params={{ kind: "device", id: link.asking }} className="hover:underline">
          {name(link.asking)}
        </Link>{" "}
        →{" "}
        <Link to="/lines/$kind/$id" params={{ kind: "device", id: link.answering }} className="hover:underline">
          {name(link.answering)}
        </Link>
      </h2>
      {route && <RouteStops route={route} />}
      <div className="mt-3" data-testid="verdict">
        {stopped ? (
          <div className="notice">
            <b>The message stops at {stopTitles[stopped.stop]}.</b>
            <br />
            {stopped.saw}
          </div>
        ) : tried ? (
          <div className={"notice " + (told.some((s) => s.result === "doubt") ? "doubt" : "good")}>
            <b>The message goes through.</b>
            {route?.identity ? ` The device says it is ${route.identity}.` : ""}
          </div>
        ) : (
          <div className="notice note">From the plan nothing speaks against it. Try it to see what really happens.</div>
        )}
        {stopped?.remedy && !link.facing?.fixes.length && (
          <>
            <h3 className="mt-3">Put right</h3>
            <p className="soft">{stopped.remedy}</p>
          </>
        )}
      </div>
      {findings
        .filter((f) => f.subject.id === link.id && f.fixes?.some((x) => x.learned ?? x.crossing))
        .map((f) => (
          <div key={f.code} className="mt-3">
            <p className="small soft mb-2">{f.title}.</p>
            <SettingFixes finding={f} />
          </div>
        ))}
      {route?.unticked && route.unticked.length > 0 && (
        <div className="notice doubt mt-3">
          <b>Nobody has ticked this yet, and it would explain it:</b>
          <ul className="mt-1">
            {route.unticked.map((l) => (
              <li key={l.id}>{l.text}</li>
            ))}
          </ul>
          <Link
            to="/lines/$kind/$id"
            params={{ kind: "device", id: link.answering }}
            className="mt-1 inline-block font-semibold underline"
          >
            Open its access checklist
          </Link>
        </div>
      )}
      {route?.ask && route.ask.length > 0 && (
        <div className="notice note mt-3">
          <b>Look up at the device: {route.ask.join(", ")}.</b> Nobody has entered it yet, and it would decide whether
          the ends agree.
        </div>
      )}
      <div className="mt-3 flex flex-wrap gap-2">
        <button type="button" className="button main" disabled={trying} onClick={() => void tryIt()}>
          {trying ? "Trying…" : tried ? "Try again" : "Try it"}
        </button>
        <button type="button" className="button" onClick={() => void run()}>
          {running ? "Stop the run" : "Run it"}
        </button>
        <Link className="button" to="/points/$device" params={{ device: link.answering }}>
          Its points
        </Link>
        {line?.medium === "serial" && tried && stopped && (
          <button type="button" className="button" disabled={sweep?.running} onClick={() => setAsked(true)}>
            Sweep the usual settings
          </button>
        )}
      </div>
      {asked && (
        <div className="notice note mt-2">
          {state.mode === "plant"
            ? "This opens the port of this machine at 32 settings in turn and asks the device in each. " +
              "Whatever else is on the line hears noise meanwhile: do it only while nothing there has to run."
            : "This asks the device in 32 usual settings, one after the other."}
          <div className="mt-2 flex gap-2">
            <button
              type="button"
              className={"button " + (state.mode === "plant" ? "danger" : "main")}
              onClick={() => {
                setAsked(false);
                void sweepFormats();
              }}
            >
              Ask in all 32
            </button>
            <button type="button" className="button" onClick={() => setAsked(false)}>
              Leave it
            </button>
          </div>
        </div>
      )}
      {sweep && <SweepProgress sweep={sweep} onStop={() => void stop()} />}
      {found && (
        <button type="button" className="button mt-1" onClick={() => void note(found)}>
          Note {formatWord(found)} as its setting
        </button>
      )}
      {told.length > 0 && tried && (
        <ul className="mt-3">
          {told.map((s) => (
            <li key={s.stop} className="small flex gap-2 py-[2px]">
              <Mark kind={markOf(s.result)} size={14} />
              <span>
                {s.saw}
                {s.result === "doubt" && s.remedy ? " " + s.remedy : ""}
              </span>
            </li>
          ))}
        </ul>
      )}
      {link.facing && <FacingCards site={site} link={link} facing={link.facing} />}
      <Standing link={link} />
      <PairNow site={site} link={link} />
      <table className="rows mt-4">
        <thead>
          <tr>
            <th>
              <span className="sr-only">Setting</span>
            </th>
            <th>
              Asking end
              <br />
              <span className="font-normal">{protocol?.asker}</span>
            </th>
            <th>
              <span className="sr-only">Agree</span>
            </th>
            <th>
              Answering end
              <br />
              <span className="font-normal">{protocol?.answerer}</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {link.faceToFace.map((row) => (
            <tr key={row.key} style={row.result === "fault" ? { background: "var(--fault-wash)" } : undefined}>
              <td className="small soft">{row.title}</td>
              <td className="mono">
                {row.asking}
                {row.unit ? "\u2009" + row.unit : ""}
              </td>
              <td>
                <Mark kind={markOf(row.result)} size={15} />
              </td>
              <td className="mono">
                {row.answering}
                {row.unit ? "\u2009" + row.unit : ""}
                {row.symptom && <div className="small soft font-sans">then {row.symptom}</div>}
                {row.fix === "link" && (
                  <button
                    type="button"
                    className="button tight mt-1"
                    onClick={() => void alike(row.key, row.answering)}
                  >
                    Use {row.answering} at both ends
                  </button>
                )}
                {row.fix === "port" && (
                  <button type="button" className="button tight mt-1" onClick={() => void asLine(row.key)}>
                    It is set to {row.asking} now
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {protocol?.ways && (
        <Offers
          link={link}
          what={protocol.ways}
          file={String(link.settings?.[protocol.askingKeys?.certificate ?? ""] ?? "")}
          onUse={(settings) => editor.commit(`took a way in of ${name(link.answering)}`, { settings })}
        />
      )}
      <h3 className="mt-4 mb-1">Asking end is set to</h3>
      {protocol?.settings
        .filter((s) => s.end !== "answering")
        .map((s) => (
          <SettingField
            key={s.key}
            setting={s}
            value={link.settings?.[s.key]}
            onBegin={editor.begin}
            onCommit={(v) =>
              editor.commit(`changed ${s.title.toLowerCase()} of the link to ${name(link.answering)}`, {
                settings: { ...link.settings, [s.key]: v },
              })
            }
          />
        ))}
      {state.mode === "bench" && (
        <>
          <h3 className="mt-4 mb-1">Stand-in on the bench</h3>
          <FaultSelect site={site} device={link.answering} />
          {answering?.ports.some((p) => p.pair) && (
            <FaultSelect site={site} device={link.answering + "/second"} named />
          )}
        </>
      )}
      <button type="button" className="button danger mt-5" onClick={() => void remove()}>
        Remove the link
      </button>
      {tried && route?.at && (
        <p className="small soft mt-4">
          Last tried {clock(Date.parse(route.at))} on the {route.bench ? "bench" : "plant"} · {route.requests} requests
        </p>
      )}
    </aside>
  );
}

/** A setting of a port that is that of its line is not kept. */
const differs = <T,>(value: T, line: T | undefined) => (value === line ? undefined : value);
