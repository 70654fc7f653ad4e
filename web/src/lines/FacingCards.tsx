import { useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { post, useEdit } from "../api/client";
import { useLive } from "../api/live";
import { deviceOf } from "../api/site";
import type { EndFix, Facing, LinkView, NotedView, SiteView, StandingPoint } from "../api/types.gen";
import { Mark, markOf } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { clock, shown } from "../shared/ui";
import { withoutPoints } from "../shared/useDeviceEditor";
import { useWriter } from "../shared/Writer";
import { useSurvey } from "./useSurvey";

type Settled = Omit<LinkView, "faceToFace" | "facing" | "standing" | "lacking">;

/** A link without what is worked out of it. */
export function settled({ faceToFace: _f, facing: _g, standing: _s, lacking: _l, ...link }: LinkView): Settled {
  return link;
}

/** What puts both ends of a connection right, and what has to be typed into the tool of the far end. */
export function FacingCards({ site, link, facing }: { site: SiteView; link: LinkView; facing: Facing }) {
  const edit = useEdit();
  const device = deviceOf(site, link.answering);
  const put = (fix: EndFix) =>
    attempt(async () => {
      const edits = [];
      if (fix.ask)
        edits.push({
          kind: "link" as const,
          id: link.id,
          base: site.versions["link:" + link.id] ?? 0,
          after: { ...settled(link), settings: { ...link.settings, ...fix.ask } },
        });
      if (fix.answer && device) {
        const keys = Object.keys(fix.answer);
        const ports = device.ports.map((p) =>
          p.line === link.line && p.protocol === link.protocol
            ? {
                ...p,
                settings: { ...p.settings, ...fix.answer },
                unknown: p.unknown?.filter((k) => !keys.includes(k)),
              }
            : p,
        );
        edits.push({
          kind: "device" as const,
          id: device.id,
          base: site.versions["device:" + device.id] ?? 0,
          after: { ...withoutPoints(device), ports },
        });
      }
      await edit(fix.title, edits);
      say(`Done: ${fix.title}. Ctrl Z takes it back.`);
    });
  const typed = link.typed ?? {};
  const tick = (key: string, value: string) =>
    attempt(async () => {
      const { [key]: was, ...others } = typed;
      const after = was === value ? others : { ...others, [key]: value };
      await edit(was === value ? "took a tick off" : "ticked what was typed at the far end", [
        {
          kind: "link" as const,
          id: link.id,
          base: site.versions["link:" + link.id] ?? 0,
          after: { ...settled(link), typed: after },
        },
      ]);
    });
  return (
    <>
      {facing.fixes.length > 0 && (
        <section className="mt-4" aria-label="Put right">
          <h3 className="mb-1">Put right, at one end</h3>
          {facing.fixes.map((fix) => (
            <button
              key={fix.title}
              type="button"
              className="card mb-2 block w-full p-2 text-left hover:bg-[var(--tide-wash)]"
              data-fix={fix.title}
              onClick={() => void put(fix)}
            >
              <b className="block">{fix.title}</b>
              <span className="small soft">{fix.detail}</span>
            </button>
          ))}
        </section>
      )}
      <Survey site={site} link={link} onUse={(fix) => void put(fix)} />
      <section className="mt-4" aria-label="To be typed at the far end">
        <h3 className="mb-1">To be typed at the far end</h3>
        <ul className="mono">
          {facing.typed.map((line) => {
            const was = typed[line.key];
            return (
              <li key={line.key}>
                <label className="flex items-baseline gap-2 py-[1px]">
                  <span className="min-w-0 flex-1 truncate">{line.title}</span>
                  <span className="text-right">
                    {line.value}
                    {was !== undefined && was !== line.value && (
                      <span className="small block" style={{ color: "var(--fault)" }}>
                        was {was}
                      </span>
                    )}
                  </span>
                  <input
                    type="checkbox"
                    aria-label={`${line.title} ${line.value} has been typed`}
                    checked={was === line.value}
                    onChange={() => void tick(line.key, line.value)}
                  />
                </label>
              </li>
            );
          })}
        </ul>
      </section>
    </>
  );
}

/** What the device says that it is set to, beside the plan. */
function Survey({ site, link, onUse }: { site: SiteView; link: LinkView; onUse: (fix: EndFix) => void }) {
  const edit = useEdit();
  const survey = useSurvey(link);
  const rows = survey.told?.rows;
  const device = deviceOf(site, link.answering);
  const others = rows?.filter((r) => !r.same) ?? [];
  const note = () =>
    attempt(async () => {
      if (!device) return;
      const keys = others.map((r) => r.key);
      const told = Object.fromEntries(others.map((r) => [r.key, r.says]));
      const ports = device.ports.map((p) =>
        p.line === link.line && p.protocol === link.protocol
          ? { ...p, settings: { ...p.settings, ...told }, unknown: p.unknown?.filter((k) => !keys.includes(k)) }
          : p,
      );
      await edit(`noted what ${device.name} says that it is set to`, [
        {
          kind: "device" as const,
          id: device.id,
          base: site.versions["device:" + device.id] ?? 0,
          after: { ...withoutPoints(device), ports },
        },
      ]);
      survey.noted();
      say("Noted. Ctrl Z takes it back.");
    });
  return (
    <section className="mt-4" aria-label="What the device says">
      <button type="button" className="button" disabled={survey.busy} onClick={() => void survey.ask()}>
        {survey.busy ? "Asking…" : "Ask the device what it has"}
      </button>
      {survey.told && (
        <button type="button" className="button ml-2" disabled={survey.busy} onClick={() => void survey.ask(true)}>
          Look for others
        </button>
      )}
      {rows?.length === 0 && (
        <p className="small soft mt-2">It tells neither who it is nor how large its assemblies are.</p>
      )}
      {rows && rows.length > 0 && (
        <table className="rows mt-2" aria-label="What the device says">
          <thead>
            <tr>
              <th>
                <span className="sr-only">Setting</span>
              </th>
              <th>Plan</th>
              <th>
                <span className="sr-only">The same</span>
              </th>
              <th>Device</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((r) => (
              <tr key={r.key}>
                <td className="small soft">{r.title}</td>
                <td className="mono">{r.known ? String(r.plan) : "not known"}</td>
                <td>
                  <Mark kind={r.same ? "good" : r.known ? "fault" : "not-yet"} size={14} />
                </td>
                <td className="mono">{String(r.says)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {survey.told?.offers && (
        <div className="mt-2">
          <div className="small soft">It has, and may be used as:</div>
          <ul aria-label="What else it has">
            {survey.told.offers.map((o) => (
              <li key={o.title} className="flex items-baseline gap-2 py-[1px]">
                <span className="mono min-w-0 flex-1">{o.title}</span>
                <span className="small soft">{o.detail}</span>
                <button type="button" className="button tight" onClick={() => onUse(o)}>
                  Use it so
                </button>
              </li>
            ))}
          </ul>
        </div>
      )}
      {survey.told?.aside?.map((a) => (
        <p key={a.link} className="small mt-2 flex gap-2">
          <Mark kind={markOf(a.result)} size={14} />
          <span>
            <Link to="/lines/$kind/$id" params={{ kind: "link", id: a.link }} className="underline">
              {a.title}
            </Link>
            : {a.says}
          </span>
        </p>
      ))}
      {others.length > 0 && (
        <button type="button" className="button mt-1" onClick={() => void note()}>
          Note what it says
        </button>
      )}
    </section>
  );
}

/** What a connection tells of itself, and its switches. */
export function Standing({ link }: { link: LinkView }) {
  const client = useQueryClient();
  const add = () =>
    attempt(async () => {
      const noted = await post<NotedView>(`/api/links/${link.id}/standing`, {});
      await client.invalidateQueries({ queryKey: ["site"] });
      say(`${noted.said} Ctrl Z takes it back.`);
    });
  const points = link.standing ?? [];
  if (!points.length && !link.lacking) return null;
  return (
    <section className="mt-4" aria-label="State of the connection">
      <h3 className="mb-1">State of the connection</h3>
      <table className="rows">
        <tbody>
          {points.map((p) => (
            <StandingRow key={p.point} point={p} />
          ))}
        </tbody>
      </table>
      {(link.lacking ?? 0) > 0 && (
        <button type="button" className="button mt-1" onClick={() => void add()}>
          Add {points.length ? `the ${link.lacking} other points` : "points"} for its state and its switches
        </button>
      )}
    </section>
  );
}

function StandingRow({ point }: { point: StandingPoint }) {
  const live = useLive(point.point);
  const writer = useWriter(point.point, "");
  const on = live?.value === true;
  return (
    <tr>
      <td className="small soft align-top">{point.name}</td>
      <td className="mono break-words">
        {live && live.atMs > 0 && live.quality !== "bad" ? shown(live) || "—" : "—"}
        {point.unit && <span className="soft"> {point.unit}</span>}
        {live?.quality === "bad" && <div className="small soft font-sans">{live.reason}</div>}
        {point.switch && (
          <button
            type="button"
            className="button tight ml-2"
            disabled={writer.busy || !live?.atMs}
            onClick={() => void writer.prepare(on ? "0" : "1")}
          >
            {on ? "Switch off…" : "Switch on…"}
          </button>
        )}
        {writer.shown}
      </td>
      <td className="soft small w-[1px] whitespace-nowrap" title={live?.atMs ? clock(live.atMs) : undefined}>
        <Mark kind={markOf(live?.quality)} size={13} />
      </td>
    </tr>
  );
}
