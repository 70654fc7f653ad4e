import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post } from "../api/client";
import { useLiveState } from "../api/live";
import type { Heard, Line, MachineView } from "../api/types.gen";
import { Mark, markOf } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { Field } from "../shared/ui";

export const useMachine = () =>
  useQuery({ queryKey: ["machine"], queryFn: () => get<MachineView>("/api/machine"), refetchInterval: 5000 });

/** This machine beside a line: what it would use there, and on a plant, whether it may. */
export function Here({
  line,
  onBegin,
  onCommit,
}: {
  line: Line;
  onBegin: () => void;
  onCommit: (here: string) => Promise<unknown>;
}) {
  const { data: machine } = useMachine();
  const { state } = useLiveState();
  const client = useQueryClient();
  const [heard, setHeard] = useState<Heard>();
  const [listening, setListening] = useState(false);
  const on = machine?.lines.find((l) => l.line === line.id);
  const serial = line.medium === "serial";
  const allowed = state.allowed.includes(line.id);
  const listen = async () => {
    setListening(true);
    await attempt(async () => setHeard(await post<Heard>(`/api/lines/${line.id}/listen`, { seconds: 5 })));
    setListening(false);
  };
  const allow = (minutes: number) =>
    attempt(async () => {
      await post(`/api/lines/${line.id}/allow`, { minutes });
      await client.invalidateQueries({ queryKey: ["site"] });
      say(minutes ? `Ferry may ask on ${line.name} for ${minutes} minutes.` : `Ferry no longer asks on ${line.name}.`);
    });
  return (
    <section className="mt-5" aria-label="This machine">
      <h3 className="mb-1">This machine on the line</h3>
      {state.mode === "bench" && (
        <p className="small soft mb-1">On the bench a simulated line takes its place. On the plant:</p>
      )}
      {on && (
        <p className="flex gap-2">
          <Mark kind={markOf(on.result)} size={15} />
          <span>
            {on.saw} {on.remedy}
          </span>
        </p>
      )}
      {serial && machine && (
        <Field
          label="Serial port"
          value={line.here ?? ""}
          mono
          onBegin={onBegin}
          onCommit={(t) => onCommit(t)}
          options={[
            { value: "", title: "none" },
            ...machine.ports.map((p) => ({ value: p.path, title: p.path + (p.owner ? " (taken)" : "") })),
            ...(line.here && !machine.ports.some((p) => p.path === line.here)
              ? [{ value: line.here, title: line.here + " (not there)" }]
              : []),
          ]}
        />
      )}
      {serial && state.mode === "plant" && (
        <div className="notice note mt-2">
          Ferry asks in the place of the asking end. If that asks too, the two collide: listen first.
          <div className="mt-2 flex flex-wrap gap-2">
            <button type="button" className="button" disabled={listening || !line.here} onClick={() => void listen()}>
              {listening ? "Listening for 5 s…" : "Listen for 5 s"}
            </button>
            {allowed ? (
              <button type="button" className="button" onClick={() => void allow(0)}>
                Ask no more
              </button>
            ) : (
              <button type="button" className="button danger" disabled={!heard} onClick={() => void allow(30)}>
                Ask here for 30 minutes
              </button>
            )}
          </div>
          {heard && (
            <p className="mt-2">
              {heard.sentence}
              {heard.stations.length > 0 && ` Heard of: ${heard.stations.join(", ")}.`}
            </p>
          )}
        </div>
      )}
      {!serial && machine && (
        <ul className="small soft mt-1">
          {machine.interfaces
            .filter((i) => i.addrs.length > 0)
            .map((i) => (
              <li key={i.name}>
                <span className="mono">{i.name}</span> {i.addrs.join(", ")}
                {i.up ? "" : ", down"}
              </li>
            ))}
        </ul>
      )}
    </section>
  );
}
