import { useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { post, problemOf, useEdit } from "../api/client";
import type { Outlet, Problem, Setting, SiteView } from "../api/types.gen";
import { KeptField } from "../lines/KeptField";
import { shortened } from "../shared/LongName";
import { whole } from "../shared/numbers";
import { attempt, say } from "../shared/toast";
import { Field, ProblemNotice, Switched } from "../shared/ui";
import { useObjectEditor } from "../shared/useObjectEditor";
import { linkName, wayWords } from "./lookouts";

const secret = { key: "secret", title: "Secret", kind: "secret" } as Setting;

/** Somebody who is told, or something: how, and with what. */
export function OutletPanel({ site, outlet: o, programs }: { site: SiteView; outlet: Outlet; programs: string[] }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const edit = useEdit();
  const version = site.versions["outlet:" + o.id] ?? 0;
  const editor = useObjectEditor("outlet", o, version);
  const [problem, setProblem] = useState<Problem>();
  const [trying, setTrying] = useState(false);
  const set = (patch: Partial<Outlet>) => editor.commit(`changed the outlet ${o.name}`, patch);
  const carrying = site.links.filter((l) => site.protocols.find((p) => p.name === l.protocol)?.carries);
  const setWay = (way: Outlet["way"]) => {
    const plain: Partial<Outlet> = {
      way,
      to: undefined,
      from: undefined,
      server: undefined,
      safe: undefined,
      user: undefined,
      secret: undefined,
      url: undefined,
      link: undefined,
      topic: undefined,
      program: undefined,
    };
    if (way === "mail")
      Object.assign(plain, {
        to: ["oncall@skerry.example"],
        from: "ferry@skerry.example",
        server: "192.0.2.25:587",
        safe: "starttls",
      });
    if (way === "webhook") plain.url = "https://192.0.2.26/ferry";
    if (way === "message") Object.assign(plain, { link: carrying[0]?.id ?? "", topic: "skerry/ferry/lookouts" });
    if (way === "program") plain.program = programs[0] ?? "page";
    return set(plain);
  };
  const tryIt = async () => {
    setProblem(undefined);
    setTrying(true);
    try {
      await post(`/api/outlets/${o.id}/try`);
      say(`${o.name} has taken it.`);
    } catch (error) {
      setProblem(problemOf(error));
    }
    setTrying(false);
    await client.invalidateQueries({ queryKey: ["lookouts"] });
  };
  const remove = () =>
    attempt(async () => {
      await edit(`removed the outlet ${o.name}`, [{ kind: "outlet", id: o.id, base: version, after: null }]);
      say("The outlet is gone. Ctrl Z takes it back.");
      await navigate({ to: "/traffic/lookouts" });
    });
  const text = (label: string, key: "from" | "server" | "user" | "url" | "topic", help?: string) => (
    <Field
      label={label}
      mono
      help={help}
      value={o[key] ?? ""}
      onBegin={editor.begin}
      onCommit={(t) => set({ [key]: t.trim() || undefined })}
    />
  );
  return (
    <aside className="panel" aria-label="Outlet">
      <div className="small soft">Outlet</div>
      <h2 className="mb-2 break-words">{o.name}</h2>
      <Field label="Name" value={o.name} onBegin={editor.begin} onCommit={(t) => set({ name: t.trim() })} />
      <Switched off={o.off} onBegin={editor.begin} onCommit={(off) => set({ off })} />
      <Field
        label="Told by"
        value={o.way}
        options={Object.entries(wayWords).map(([value, title]) => ({ value, title }))}
        onBegin={editor.begin}
        onCommit={(t) => setWay(t as Outlet["way"])}
      />
      {o.way === "mail" && (
        <>
          <Field
            label="To"
            mono
            value={o.to?.join(", ") ?? ""}
            help="One or more addresses, with commas between them."
            onBegin={editor.begin}
            onCommit={(t) =>
              set({
                to: t
                  .split(/[,;\s]+/)
                  .map((a) => a.trim())
                  .filter(Boolean),
              })
            }
          />
          {text("From", "from")}
          {text("Mail server", "server", "Its name or address, and its port.")}
          <Field
            label="Spoken to"
            value={o.safe ?? ""}
            options={[
              { value: "starttls", title: "with STARTTLS, usually port 587" },
              { value: "tls", title: "over TLS, usually port 465" },
              { value: "", title: "without encryption" },
            ]}
            onBegin={editor.begin}
            onCommit={(t) => set({ safe: (t || undefined) as Outlet["safe"] })}
          />
          {text("User", "user", "Empty for a server that lets everybody in.")}
          <KeptField
            setting={secret}
            value={o.secret ?? ""}
            onBegin={editor.begin}
            onCommit={(t) => set({ secret: t || undefined })}
          />
        </>
      )}
      {o.way === "webhook" && (
        <>
          {text("Address", "url", "Where the notice is posted to, as JSON. No redirection is followed.")}
          <KeptField
            setting={{ ...secret, help: "It goes with each post, as a bearer token." }}
            value={o.secret ?? ""}
            onBegin={editor.begin}
            onCommit={(t) => set({ secret: t || undefined })}
          />
        </>
      )}
      {o.way === "message" && (
        <>
          <Field
            label="Over"
            value={o.link ?? ""}
            options={carrying.map((l) => ({ value: l.id, title: shortened(linkName(site, l), 48) }))}
            onBegin={editor.begin}
            onCommit={(t) => set({ link: t })}
          />
          {text("Topic", "topic", "None that a point of the site has: a message moves nothing.")}
        </>
      )}
      {o.way === "program" && (
        <>
          <Field
            label="Program"
            value={o.program ?? ""}
            options={[...new Set([...programs, o.program ?? ""])].map((p) => ({
              value: p,
              title: programs.includes(p) ? p : `${p} · not allowed`,
            }))}
            onBegin={editor.begin}
            onCommit={(t) => set({ program: t })}
          />
          <p className="small soft">
            Only programs that were allowed when Ferry was started, by <span className="mono">--program NAME=PATH</span>
            , can be run. The notice comes as JSON on its standard input.
          </p>
        </>
      )}
      <Field
        label="At most every"
        unit="s"
        mono
        value={String(o.everyS)}
        help="The least time between two notices. What happens in between goes with the next."
        onBegin={editor.begin}
        onCommit={(t) => set({ everyS: whole(t) })}
      />
      <button type="button" className="button mt-3" disabled={trying} onClick={() => void tryIt()}>
        {trying ? "Trying…" : "Try it now"}
      </button>
      {problem && <ProblemNotice problem={problem} />}
      <div>
        <button type="button" className="button danger mt-6" onClick={() => void remove()}>
          Remove the outlet
        </button>
      </div>
    </aside>
  );
}
