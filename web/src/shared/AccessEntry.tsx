import { useState } from "react";
import { newId } from "../api/client";
import type { AccessLine, SiteView } from "../api/types.gen";
import { attempt } from "./toast";

/** Where a line of an access checklist is entered. */
export function AccessEntry({ site, onAdd }: { site: SiteView; onAdd: (line: AccessLine) => Promise<unknown> }) {
  const [kind, setKind] = useState<AccessLine["kind"]>("remote");
  const [text, setText] = useState("");
  const add = () =>
    attempt(async () => {
      await onAdd({ id: newId(), kind, text: text.trim() });
      setText("");
    });
  return (
    <div className="mt-2 flex flex-wrap gap-2">
      <input
        className="input basis-full"
        aria-label="New access line"
        placeholder="menu 4-2: remote on"
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => e.key === "Enter" && text.trim() && void add()}
      />
      <select
        className="input !w-auto"
        aria-label="What the line is about"
        value={kind}
        onChange={(e) => setKind(e.target.value as AccessLine["kind"])}
      >
        {site.accessKinds.map((k) => (
          <option key={k.kind} value={k.kind}>
            {k.title}
          </option>
        ))}
      </select>
      <button type="button" className="button" disabled={!text.trim()} onClick={() => void add()}>
        Add
      </button>
    </div>
  );
}
