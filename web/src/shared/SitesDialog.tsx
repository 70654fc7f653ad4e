import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, problemOf } from "../api/client";
import type { DoneView, Problem, Site, SitesView } from "../api/types.gen";
import { say } from "./toast";
import { clockDay, Dialog, ProblemNotice } from "./ui";

/** Waits until Ferry answers again, and begins the page anew with the site that is open then. */
async function comeBack() {
  for (let n = 0; n < 100; n++) {
    await new Promise((done) => setTimeout(done, 150));
    try {
      if ((await fetch("/api/me")).ok) break;
    } catch {
      // It is still closing the one and opening the other.
    }
  }
  location.assign("/lines");
}

/** The sites of this machine: open one, begin one, copy one, put one away. */
export function SitesDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  const client = useQueryClient();
  const { data } = useQuery({
    queryKey: ["sites"],
    queryFn: () => get<SitesView>("/api/sites"),
    enabled: open,
    staleTime: 0,
  });
  const [name, setName] = useState("");
  const [copying, setCopying] = useState<Site>();
  const [removing, setRemoving] = useState<string>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const act = async (what: string, body: { id: string; name: string }) => {
    setBusy(true);
    setProblem(undefined);
    try {
      const done = await post<DoneView>(`/api/sites/${what}`, body);
      if (what === "open") return void comeBack();
      say(done.sentence);
      setName("");
      setCopying(undefined);
      setRemoving(undefined);
      await client.invalidateQueries({ queryKey: ["sites"] });
    } catch (error) {
      setProblem(problemOf(error));
    }
    setBusy(false);
  };
  const list = (data?.sites ?? []).toSorted(
    (a, b) => Number(b.id === data?.open) - Number(a.id === data?.open) || b.opened - a.opened,
  );
  return (
    <Dialog open={open} onClose={onClose} title="Sites on this machine" wide>
      <p className="soft mb-2">
        Each has its own map, journal and samples. One is open at a time; its run has to be stopped before another is
        opened.
      </p>
      <table className="rows" aria-label="Sites on this machine">
        <thead>
          <tr>
            <th>Name</th>
            <th>Opened last</th>
            <th>
              <span className="sr-only">What to do</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {list.map((s) => (
            <tr key={s.id} data-site={s.id} className={s.id === data?.open ? "chosen" : ""}>
              <td className="font-semibold break-words">{s.name}</td>
              <td className="small soft whitespace-nowrap">
                {s.id === data?.open ? "open now" : s.opened ? clockDay(s.opened) : "never"}
              </td>
              <td>
                <span className="flex flex-wrap justify-end gap-2">
                  {s.id !== data?.open && (
                    <button
                      type="button"
                      className="button tight"
                      disabled={busy}
                      onClick={() => void act("open", { id: s.id, name: "" })}
                    >
                      Open
                    </button>
                  )}
                  <button
                    type="button"
                    className="button tight"
                    disabled={busy}
                    onClick={() => {
                      setCopying(s);
                      setName(`${s.name}, copy`);
                    }}
                  >
                    Copy…
                  </button>
                  {s.id !== data?.open &&
                    s.id !== "" &&
                    (removing === s.id ? (
                      <button
                        type="button"
                        className="button tight danger"
                        disabled={busy}
                        onClick={() => void act("remove", { id: s.id, name: "" })}
                      >
                        Remove {s.name}
                      </button>
                    ) : (
                      <button type="button" className="button tight" disabled={busy} onClick={() => setRemoving(s.id)}>
                        Remove…
                      </button>
                    ))}
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {problem && <ProblemNotice problem={problem} />}
      <form
        className="mt-3 flex flex-wrap items-center gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          void act(copying ? "copy" : "begin", { id: copying?.id ?? "", name });
        }}
      >
        <label className="flex min-w-0 flex-1 items-center gap-2">
          <span className="small soft whitespace-nowrap">{copying ? "Name of the copy" : "Name of a new site"}</span>
          <input className="input" value={name} onChange={(e) => setName(e.target.value)} />
        </label>
        <button type="submit" className="button main" disabled={busy || !name.trim()}>
          {copying ? `Copy ${copying.name}` : "Begin a site"}
        </button>
        {copying && (
          <button
            type="button"
            className="button"
            onClick={() => {
              setCopying(undefined);
              setName("");
            }}
          >
            Do not copy
          </button>
        )}
      </form>
      <div className="mt-4 flex justify-end">
        <button type="button" className="button" onClick={onClose}>
          Close
        </button>
      </div>
    </Dialog>
  );
}
