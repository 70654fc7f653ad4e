import { useNavigate } from "@tanstack/react-router";
import { get, useEdit } from "../api/client";
import type { Lookout, PointsView, SiteView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { number } from "../shared/numbers";
import { PointPick } from "../shared/PointPick";
import { readSpan, spanText } from "../shared/spans";
import { attempt, say } from "../shared/toast";
import { Field, Switched } from "../shared/ui";
import { useObjectEditor } from "../shared/useObjectEditor";
import { usePointName } from "../shared/usePointName";
import { linkName, ofPoints, seesWords } from "./lookouts";

/** One condition that is watched, and what is done about it. */
export function LookoutPanel({ site, lookout: l }: { site: SiteView; lookout: Lookout }) {
  const navigate = useNavigate();
  const edit = useEdit();
  const version = site.versions["lookout:" + l.id] ?? 0;
  const editor = useObjectEditor("lookout", l, version);
  const point = usePointName(site, ofPoints(l.sees) ? l.of : undefined);
  const set = (patch: Partial<Lookout>) => editor.commit(`changed the lookout ${l.name}`, patch);
  // What another condition does not have is left out, so that nothing of it counts unseen.
  const setSees = async (sees: Lookout["sees"]) => {
    const plain: Partial<Lookout> = {
      sees,
      code: undefined,
      notes: undefined,
      low: undefined,
      high: undefined,
      aboveMs: undefined,
    };
    if (sees === "slow") plain.aboveMs = 500;
    if (sees === "still") plain.forMs = Math.max(l.forMs, 60_000);
    if (ofPoints(sees) !== ofPoints(l.sees)) plain.of = undefined;
    if (ofPoints(sees) && !ofPoints(l.sees)) {
      // It needs a point first: it is kept once that is chosen.
      const first = site.devices.find((d) => d.pointCount > 0);
      const answer = first && (await get<PointsView>(`/api/devices/${first.id}/points`));
      plain.of = answer?.rows[0]?.id;
    }
    if (sees === "limits") Object.assign(plain, { high: 0, off: true });
    await set(plain);
    if (sees === "limits") say("It is switched off until you have given its limits and switch it on.");
  };
  const remove = () =>
    attempt(async () => {
      await edit(`removed the lookout ${l.name}`, [{ kind: "lookout", id: l.id, base: version, after: null }]);
      say("The lookout is gone. Ctrl Z takes it back.");
      await navigate({ to: "/traffic/lookouts" });
    });
  const limit = (text: string) => (text.trim() === "" ? undefined : number(text));
  return (
    <aside className="panel" aria-label="Lookout">
      <div className="small soft">Lookout</div>
      <h2 className="mb-2 break-words">{l.name}</h2>
      <Field label="Name" value={l.name} onBegin={editor.begin} onCommit={(text) => set({ name: text.trim() })} />
      <Switched off={l.off} onBegin={editor.begin} onCommit={(off) => set({ off })} />
      <h3 className="mt-4 mb-1">What it looks out for</h3>
      <Field
        label="It begins when"
        value={l.sees}
        options={Object.entries(seesWords).map(([value, title]) => ({ value, title }))}
        onBegin={editor.begin}
        onCommit={(text) => setSees(text as Lookout["sees"])}
      />
      {ofPoints(l.sees) ? (
        <PointPick
          label="The point"
          name={point}
          none="choose a point"
          onBegin={editor.begin}
          onPick={(id) => set({ of: id || undefined })}
        />
      ) : (
        <Field
          label="Where"
          value={l.of ?? ""}
          options={places(site)}
          onBegin={editor.begin}
          onCommit={(text) => set({ of: text || undefined })}
        />
      )}
      {l.sees === "finding" && (
        <>
          <Field
            label="Its code"
            mono
            value={l.code ?? ""}
            placeholder="any"
            help="The code that stands at the end of a finding, such as no-answer."
            onBegin={editor.begin}
            onCommit={(text) => set({ code: text.trim() || undefined })}
          />
          {!l.code && (
            <Field
              label="Notes too"
              value={l.notes ? "yes" : ""}
              options={[
                { value: "", title: "no, faults and doubts" },
                { value: "yes", title: "yes" },
              ]}
              onBegin={editor.begin}
              onCommit={(text) => set({ notes: text === "yes" || undefined })}
            />
          )}
        </>
      )}
      {l.sees === "limits" && (
        <>
          <Field
            label="Lowest"
            mono
            value={l.low == null ? "" : String(l.low)}
            placeholder="none"
            onBegin={editor.begin}
            onCommit={(text) => set({ low: limit(text) })}
          />
          <Field
            label="Highest"
            mono
            value={l.high == null ? "" : String(l.high)}
            placeholder="none"
            onBegin={editor.begin}
            onCommit={(text) => set({ high: limit(text) })}
          />
        </>
      )}
      {l.sees === "slow" && (
        <Field
          label="Longer than"
          unit="ms"
          mono
          value={String(l.aboveMs ?? "")}
          onBegin={editor.begin}
          onCommit={(text) => set({ aboveMs: number(text) })}
        />
      )}
      <Field
        label="Held for"
        value={spanText(l.forMs) || "0"}
        help="How long it has to be so to count, such as 5 s. What is shorter is not told."
        onBegin={editor.begin}
        onCommit={async (text) => set({ forMs: readSpan(text) })}
      />
      <Field
        label="Over after"
        value={spanText(l.endMs) || "0"}
        help="How long it must not be so to be over. What returns before that has not been away."
        onBegin={editor.begin}
        onCommit={async (text) => set({ endMs: readSpan(text) })}
      />
      <h3 className="mt-4 mb-1">What is done</h3>
      <p className="small soft">Every window of Ferry shows a mark at the top for as long as it is so.</p>
      <label className="flex items-center gap-2 py-1">
        <input
          type="checkbox"
          checked={!!l.sound}
          onChange={(e) => {
            editor.begin();
            void attempt(() => set({ sound: e.target.checked || undefined }));
          }}
        />
        and sounds when it begins
      </label>
      {site.outlets.map((o) => (
        <label key={o.id} className="flex items-center gap-2 py-1">
          <input
            type="checkbox"
            checked={l.tell?.includes(o.id) ?? false}
            onChange={(e) => {
              editor.begin();
              const tell = (l.tell ?? []).filter((id) => id !== o.id);
              if (e.target.checked) tell.push(o.id);
              void attempt(() => set({ tell: tell.length ? tell : undefined }));
            }}
          />
          and tells {o.name}, when it begins and when it is over
        </label>
      ))}
      {site.outlets.length === 0 && (
        <p className="small soft">Add an outlet to have it tell somebody by mail, by the web, a broker or a program.</p>
      )}
      <button type="button" className="button danger mt-6" onClick={() => void remove()}>
        Remove the lookout
      </button>
    </aside>
  );
}

/** What can be looked at that is no point. */
function places(site: SiteView) {
  return [
    { value: "", title: "the whole site" },
    ...site.lines.map((l) => ({ value: l.id, title: `all of ${l.name}` })),
    ...site.links.map((l) => ({ value: l.id, title: shortened(linkName(site, l), 48) })),
  ];
}
