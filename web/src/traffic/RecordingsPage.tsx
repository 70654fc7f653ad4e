import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { useRef, useState, type DragEvent } from "react";
import { get, post, postBody, problemOf } from "../api/client";
import type { Label, Problem, TakenView } from "../api/types.gen";
import { attempt } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";

/** The recordings that are kept, and how another is opened. */
export function RecordingsPage() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const { data } = useQuery({ queryKey: ["recordings"], queryFn: () => get<Label[]>("/api/recordings") });
  const [serial, setSerial] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const [opening, setOpening] = useState("");
  const input = useRef<HTMLInputElement>(null);
  const open = async (file: File) => {
    setProblem(undefined);
    setOpening(file.name);
    try {
      const query = new URLSearchParams({ name: file.name, serial });
      const taken = await postBody<TakenView>(`/api/recordings?${query}`, file);
      await client.invalidateQueries({ queryKey: ["recordings"] });
      void navigate({ to: "/traffic/recordings/$id", params: { id: taken.id } });
    } catch (error) {
      setProblem(problemOf(error));
    }
    setOpening("");
  };
  const drop = (e: DragEvent) => {
    e.preventDefault();
    const file = e.dataTransfer.files[0];
    if (file) void open(file);
  };
  return (
    <div
      className="min-w-0 flex-1 overflow-y-auto p-6"
      onDragOver={(e) => e.preventDefault()}
      onDrop={drop}
      data-page="recordings"
    >
      <div className="flex items-center gap-3">
        <h2>Recordings of traffic</h2>
        <Link to="/traffic/relays" className="small underline">
          Stand between two ends, or listen to a line
        </Link>
        <Link to="/traffic" className="small underline">
          Back to what Ferry asks
        </Link>
      </div>
      <p className="soft mt-1 max-w-[70ch]">
        A recording that somebody made is put together to exchanges and judged as live traffic is, against this site as
        it is now. It stays on the machine on which Ferry runs.
      </p>
      <section className="card mt-4 max-w-[760px] p-4" aria-label="Open a recording">
        <input
          ref={input}
          type="file"
          className="hidden"
          aria-label="File with a recording"
          onChange={(e) => {
            const file = e.target.files?.[0];
            e.target.value = "";
            if (file) void open(file);
          }}
        />
        <div className="flex flex-wrap items-center gap-3">
          <button type="button" className="button primary" disabled={!!opening} onClick={() => input.current?.click()}>
            Open a recording…
          </button>
          <span className="small soft">{opening ? `Taking in ${opening}…` : "or drop the file here"}</span>
        </div>
        <p className="small soft mt-3">
          Networks: pcap and pcapng, compressed with gzip or not. Serial lines: text with octets in hexadecimal, with
          times and who speaks where it says so; or the octets themselves.
        </p>
        <label className="small soft mt-2 flex items-center gap-2">
          Of a serial line that was set to
          <input
            className="input mono !w-[120px]"
            value={serial}
            placeholder="19200:8E1"
            spellCheck={false}
            onChange={(e) => setSerial(e.target.value)}
          />
          <span>— if you know it</span>
        </label>
        {problem && <ProblemNotice problem={problem} />}
      </section>
      <section className="mt-5 max-w-[760px]" aria-label="Kept recordings">
        {data?.length === 0 && <p className="soft">None is kept yet.</p>}
        {data?.map((r) => (
          <div key={r.id} className="flex items-center gap-3 border-b border-rule py-2" data-recording={r.name}>
            <Link
              to="/traffic/recordings/$id"
              params={{ id: r.id }}
              className="min-w-0 flex-1 truncate font-semibold underline"
              title={r.name}
            >
              {r.name}
            </Link>
            <span className="small soft">{size(r.octets)}</span>
            <span className="small soft">{new Date(r.at).toLocaleString("en-GB")}</span>
            <button
              type="button"
              className="button tight"
              aria-label={`Remove ${r.name}`}
              onClick={() =>
                void attempt(async () => {
                  client.setQueryData(["recordings"], await post<Label[]>(`/api/recordings/${r.id}/remove`));
                })
              }
            >
              Remove
            </button>
          </div>
        ))}
      </section>
    </div>
  );
}

/** Octets as people say them. */
function size(octets: number): string {
  if (octets < 1000) return `${octets} octets`;
  if (octets < 1e6) return `${(octets / 1e3).toFixed(1)} kB`;
  if (octets < 1e9) return `${(octets / 1e6).toFixed(1)} MB`;
  return `${(octets / 1e9).toFixed(2)} GB`;
}
