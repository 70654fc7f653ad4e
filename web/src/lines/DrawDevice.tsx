import { useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { postBody, problemOf } from "../api/client";
import { nameOf } from "../api/site";
import type { DrawnView, Line, Problem, SiteView } from "../api/types.gen";
import { say } from "../shared/toast";
import { Dialog, Field, ProblemNotice } from "../shared/ui";

/** Who asks a device that Ferry itself is: whoever comes. */
const itself = "ferry itself";

/** Puts a device on a line out of the file in which its maker describes it: ports, map and link in one step. */
export function DrawDevice({ site, line }: { site: SiteView; line: Line }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const [file, setFile] = useState<File>();
  const [view, setView] = useState<DrawnView>();
  const [problem, setProblem] = useState<Problem>();
  const [choice, setChoice] = useState("0");
  const [host, setHost] = useState("");
  const [asking, setAsking] = useState(
    () =>
      site.links.find((l) => l.line === line.id)?.asking ??
      site.devices.find((d) => d.ports.some((p) => p.line === line.id))?.id ??
      "",
  );
  const send = async (of: File, way: string, dry: boolean) => {
    setProblem(undefined);
    try {
      const query = new URLSearchParams({
        name: of.name,
        choice: way,
        asking: asking === itself ? "" : asking,
        host: host.trim(),
        ...(asking === itself ? { served: "1" } : {}),
        ...(dry ? { dry: "1" } : {}),
      });
      const drawn = await postBody<DrawnView>(`/api/lines/${line.id}/drawn?${query}`, of);
      if (dry) return setView(drawn);
      await client.invalidateQueries({ queryKey: ["site"] });
      say(`${drawn.name} is on ${line.name}. Ctrl Z takes it back.`);
      setFile(undefined);
      await navigate({
        to: "/lines/$kind/$id",
        params: drawn.link ? { kind: "link", id: drawn.link } : { kind: "device", id: drawn.device ?? "" },
      });
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const open = (of: File) => {
    setFile(of);
    setView(undefined);
    setChoice("0");
    void send(of, "0", true);
  };
  const askers = site.devices.filter((d) => d.ports.some((p) => p.line === line.id));
  return (
    <>
      <label className="button mt-2 inline-block cursor-pointer">
        Add a device from a file that describes it…
        <input
          className="sr-only"
          type="file"
          accept=".eds,.txt,.xml,.icd,.cid,.iid,.scd"
          aria-label="File that describes a device"
          onChange={(e) => {
            const of = e.target.files?.[0];
            if (of) open(of);
            e.target.value = "";
          }}
        />
      </label>
      <Dialog
        open={!!file}
        onClose={() => setFile(undefined)}
        title={view ? `Add ${view.name}?` : "A device from a file"}
      >
        {problem && <ProblemNotice problem={problem} />}
        {view && (
          <>
            <p className="mb-2">
              {view.title}: {view.points} points
              {view.aside > 0 && `, and ${view.aside} parameters that are asked for one by one`}.
            </p>
            {view.choices.length > 1 && (
              <Field
                label="Which of it"
                value={choice}
                options={view.choices.map((title, i) => ({ value: String(i), title: title || `connection ${i + 1}` }))}
                onCommit={async (way) => {
                  setChoice(way);
                  if (file) await send(file, way, true);
                }}
              />
            )}
            <Field
              label="Asked by"
              value={asking}
              options={[
                { value: "", title: "nobody yet" },
                ...(view.serves ? [{ value: itself, title: "Ferry itself is it: clients come" }] : []),
                ...askers.map((d) => ({ value: d.id, title: nameOf(site, d.id) })),
              ]}
              onCommit={(id) => Promise.resolve(setAsking(id))}
            />
            <Field
              label="IP address"
              mono
              value={host}
              placeholder="192.0.2.64"
              onCommit={(text) => Promise.resolve(setHost(text))}
            />
            {view.unread.length > 0 && (
              <div className="notice doubt mt-2 max-h-[160px] overflow-y-auto">
                <b>{view.unread.length} places of the file were not read:</b>
                <ul>
                  {view.unread.slice(0, 50).map((u) => (
                    <li key={`${u.line} ${u.what}`} className="small">
                      {u.line > 0 ? `line ${u.line}: ` : ""}
                      {u.what}: {u.reason}
                    </li>
                  ))}
                </ul>
              </div>
            )}
          </>
        )}
        <div className="mt-3 flex justify-end gap-2">
          <button type="button" className="button" onClick={() => setFile(undefined)}>
            Leave it
          </button>
          {view && file && (
            <button type="button" className="button main" onClick={() => void send(file, choice, false)}>
              Add it
            </button>
          )}
        </div>
      </Dialog>
    </>
  );
}
