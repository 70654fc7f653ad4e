import { useNavigate } from "@tanstack/react-router";
import { useEdit } from "../api/client";
import type { Line, SiteView } from "../api/types.gen";
import { useObjectEditor } from "../shared/useObjectEditor";
import { attempt, say } from "../shared/toast";
import { Field } from "../shared/ui";

/** A line's own settings. */
export function LinePanel({ site, line }: { site: SiteView; line: Line }) {
  const navigate = useNavigate();
  const edit = useEdit();
  const editor = useObjectEditor("line", line, site.versions["line:" + line.id] ?? 0);
  const remove = () => attempt(async () => {
    await edit("removed line " + line.name, [{ kind: "line", id: line.id, base: site.versions["line:" + line.id] ?? 0, after: null }]);
    say(`${line.name} is gone, with its links. Ctrl Z takes it back.`);
    await navigate({ to: "/lines" });
  });
  return (
    <aside className="panel" aria-label="Line">
      <div className="small soft">Line · Ethernet</div>
      <h2 className="mb-3 break-words">{line.name}</h2>
      {([["name", "Name"], ["network", "Network"], ["gateway", "Gateway"], ["remark", "Remark"]] as const).map(([key, label]) => (
        <Field key={key} label={label} value={line[key] ?? ""} mono={key === "network" || key === "gateway"} placeholder={key === "network" ? "192.0.2.0/24" : undefined}
          onBegin={editor.begin} onCommit={(text) => editor.commit(`changed ${label.toLowerCase()} of line ${line.name}`, { [key]: text.trim() })} />
      ))}
      <button type="button" className="button danger mt-5" onClick={() => void remove()}>Remove the line</button>
    </aside>
  );
}
