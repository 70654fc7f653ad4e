import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { get, newId, post, useEdit } from "../api/client";
import { deviceOf, linkTo } from "../api/site";
import type { LinkView, List, NotedView, SiteView, ListStanding } from "../api/types.gen";
import { Heartbeat } from "../lines/Heartbeat";
import { SettingField } from "../lines/SettingField";
import { PointPick } from "../shared/PointPick";
import { attempt, say } from "../shared/toast";
import { Field, Switched } from "../shared/ui";
import { usePointName } from "../shared/usePointName";
import { useObjectEditor } from "../shared/useObjectEditor";
import { bare } from "./rules";
import { namesOf } from "./listed";

/** What counts for all names of a list, and how Ferry reaches the far side. */
export function ListPanel({ site, list }: { site: SiteView; list: List }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const edit = useEdit();
  const version = site.versions["list:" + list.id] ?? 0;
  const editor = useObjectEditor("list", list, version);
  const far = deviceOf(site, list.far);
  const link = linkTo(site, list.far);
  const port = far?.ports.find((p) => p.line === link?.line);
  const takenUp = async () => {
    await new Promise((done) => setTimeout(done, 1200)); // what it carries now shows after a moment
    const standing = (await get<ListStanding[]>("/api/lists")).find((s) => s.list === list.id);
    if (standing) say(`Taken up again. ${standing.title}. ${standing.sentence}`);
  };
  const set = async (what: string, patch: Partial<List>) => {
    await editor.commit(`${what} the list ${list.name}`, patch);
    void attempt(takenUp);
  };
  const carry = async (carries: string) => {
    await post<NotedView>(`/api/lists/${list.id}/turn`, { crossings: [], carries });
    await client.invalidateQueries({ queryKey: ["site"] });
    void attempt(takenUp);
  };
  const remove = () =>
    attempt(async () => {
      await edit(`removed the list ${list.name}`, [{ kind: "list", id: list.id, base: version, after: null }]);
      say("The list is gone, and its names no longer carry. Ctrl Z takes it back.");
      await navigate({ to: "/crossings/lists" });
    });
  const beat = site.crossings.find((c) => c.list === list.id && c.beatMs);
  const beatTo = (to: string) => {
    const id = beat?.id ?? newId();
    const after = to ? { ...(beat ? bare(beat) : { id, beatMs: 1000, list: list.id }), to } : null;
    return edit(`changed Ferry's heartbeat in the list ${list.name}`, [
      { kind: "crossing", id, base: site.versions["crossing:" + id] ?? 0, after },
    ]);
  };
  const there = far?.name ?? "the far side";
  const enable = usePointName(site, list.enable);
  return (
    <aside className="panel" aria-label="List">
      <div className="small soft">List of names</div>
      <h2 className="mb-2 break-words">{list.name}</h2>
      <Field
        label="Name"
        value={list.name}
        onBegin={editor.begin}
        onCommit={(text) => editor.commit(`renamed the list ${list.name}`, { name: text.trim() })}
      />
      <Switched
        off={list.off}
        onBegin={editor.begin}
        onCommit={(off) => set(`switched ${off ? "off" : "on"}`, { off })}
      />
      <PointPick
        label="Only while"
        name={enable}
        none="always"
        help="A point that must be on for any of the names to be carried."
        onBegin={editor.begin}
        onPick={(id) => set("changed what enables", { enable: id || undefined })}
      />
      <h3 className="mt-4 mb-1">Rules for all names</h3>
      <Field
        label="Carries"
        value={list.carries ?? ""}
        options={[
          { value: "", title: "both ways" },
          { value: "takes", title: "only from there: nothing is written" },
          { value: "gives", title: "only to there" },
        ]}
        onCommit={carry}
      />
      <Field
        label="At the start"
        value={list.start ?? ""}
        options={[
          { value: "", title: "this side wins" },
          { value: "there", title: `${there} wins` },
          { value: "wait", title: "whoever is good first" },
        ]}
        onBegin={editor.begin}
        onCommit={(text) => set("changed who wins at the start of", { start: (text || undefined) as List["start"] })}
      />
      {!list.carries && (
        <Field
          label="In a tie"
          value={list.ties ?? ""}
          options={[
            { value: "", title: "this side wins" },
            { value: "there", title: `${there} wins` },
            { value: "later", title: "the later wins" },
          ]}
          help="For names that go both ways, where both sides have changed."
          onBegin={editor.begin}
          onCommit={(text) => set("changed who wins a tie of", { ties: (text || undefined) as List["ties"] })}
        />
      )}
      <h3 className="mt-4 mb-1">The far side</h3>
      <p className="small">
        <Link
          to="/lines/$kind/$id"
          params={{ kind: "device", id: list.far }}
          className="underline"
          title="Address, port, and who may ask"
        >
          {there}
        </Link>
        {far?.serving
          ? ", which is Ferry itself"
          : port &&
            (port.hostFrom ? (
              <>, at the address that a point gives</>
            ) : (
              <>
                {" "}
                at <span className="mono">{port.host}</span>
              </>
            ))}
      </p>
      {link && <SignIn key={link.id} site={site} link={link} onTakenUp={() => void attempt(takenUp)} />}
      {far && (
        <section aria-label="Heartbeats">
          <h3 className="mt-4 mb-1">Heartbeats</h3>
          <PointPick
            label="Ferry gives"
            name={beat?.target.name ?? ""}
            none="no point"
            of={far.id}
            help={`A point of ${there} that Ferry counts on, or turns, for whoever watches there that it is alive.`}
            onPick={(id) => beatTo(id)}
          />
          {!far.serving && <Heartbeat site={site} device={far} />}
        </section>
      )}
      <Field
        label="Remark"
        value={list.remark ?? ""}
        onBegin={editor.begin}
        onCommit={(text) => editor.commit(`changed the remark of the list ${list.name}`, { remark: text || undefined })}
      />
      <p className="small soft mt-4">
        Hand out the list:{" "}
        {["xlsx", "csv", "json"].map((format) => (
          <a key={format} className="mr-2 underline" href={`/api/file/crossings.${format}?list=${list.id}`} download>
            {format.toUpperCase()}
          </a>
        ))}
      </p>
      <button type="button" className="button danger mt-4" onClick={() => void remove()}>
        Remove the list and its {namesOf(site, list).length} names
      </button>
    </aside>
  );
}

/** What the asking end says of itself when it begins a session. */
function SignIn({ site, link, onTakenUp }: { site: SiteView; link: LinkView; onTakenUp: () => void }) {
  const version = site.versions["link:" + link.id] ?? 0;
  const editor = useObjectEditor("link", link, version, ({ faceToFace: _rows, ...rest }: LinkView) => rest);
  const protocol = site.protocols.find((p) => p.name === link.protocol);
  const settings = (protocol?.settings ?? []).filter((s) => s.stop === "session" && s.end !== "answering");
  return settings.map((setting) => (
    <SettingField
      key={setting.key}
      setting={setting}
      value={link.settings?.[setting.key]}
      onBegin={editor.begin}
      onCommit={async (value) => {
        await editor.commit(`changed ${setting.title} of the link to its list`, {
          settings: { ...link.settings, [setting.key]: value },
        });
        onTakenUp();
      }}
    />
  ));
}
