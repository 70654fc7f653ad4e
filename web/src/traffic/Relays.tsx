import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { get, post, problemOf, useSite } from "../api/client";
import { useLivePart } from "../api/live";
import type { Problem, RelayRequest, RelayState, TakenView } from "../api/types.gen";
import { count } from "../shared/numbers";
import { attempt } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";

/** Ferry between a caller and a device of the site: what each says is passed on at once, and recorded. */
export function Relays() {
  const { data: site } = useSite();
  const client = useQueryClient();
  const navigate = useNavigate();
  const mode = useLivePart((live) => live.state.mode);
  const { data } = useQuery({
    queryKey: ["relays"],
    queryFn: () => get<RelayState[]>("/api/relays"),
    refetchInterval: 1000,
  });
  const [link, setLink] = useState("");
  const [listen, setListen] = useState("127.0.0.1:4001");
  const [allow, setAllow] = useState("");
  const [idle, setIdle] = useState("");
  const [one, setOne] = useState(false);
  const [problem, setProblem] = useState<Problem>();
  const names = new Map(site?.devices.map((d) => [d.id, d.name]));
  const ethernet = new Set(site?.lines.filter((l) => l.medium === "ethernet").map((l) => l.id));
  const links = (site?.links ?? []).filter((l) => ethernet.has(l.line));
  const start = async () => {
    setProblem(undefined);
    try {
      const request: RelayRequest = {
        link: link || (links[0]?.id ?? ""),
        listen: listen.trim(),
        to: "",
        one,
        idle: Number(idle) || 0,
        allow: allow
          .split(/[\s,;]+/)
          .map((a) => a.trim())
          .filter(Boolean),
      };
      client.setQueryData(["relays"], await post<RelayState[]>("/api/relays", request));
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  const end = (id: string) =>
    attempt(async () => {
      client.setQueryData(["relays"], await post<RelayState[]>(`/api/relays/${id}/stop`));
    });
  const keep = (id: string) =>
    attempt(async () => {
      const taken = await post<TakenView>(`/api/relays/${id}/keep`);
      await client.invalidateQueries({ queryKey: ["recordings"] });
      void navigate({ to: "/traffic/recordings/$id", params: { id: taken.id } });
    });
  return (
    <section className="mt-6 max-w-[760px]" aria-label="Relays">
      <h3>Stand between two ends</h3>
      <p className="small soft mt-1 max-w-[80ch]">
        Have the asking program connect to Ferry in the place of the device. What each says is passed on at once and
        unchanged, writes too, and recorded.
        {mode === "plant" && " On the plant, writing has to be unlocked when a relay is started."}
      </p>
      <div className="card mt-2 grid grid-cols-[auto_1fr] items-center gap-x-3 gap-y-2 p-3">
        <label className="small soft" htmlFor="relay-listen">
          Callers connect to
        </label>
        <input
          id="relay-listen"
          className="input mono !w-[200px]"
          value={listen}
          spellCheck={false}
          onChange={(e) => setListen(e.target.value)}
        />
        <label className="small soft" htmlFor="relay-to">
          and are passed on to
        </label>
        <select id="relay-to" className="input !w-[320px]" value={link} onChange={(e) => setLink(e.target.value)}>
          {links.map((l) => (
            <option key={l.id} value={l.id}>
              {names.get(l.answering)} (asked by {names.get(l.asking)})
            </option>
          ))}
        </select>
        <label className="small soft" htmlFor="relay-allow">
          Lets in
        </label>
        <input
          id="relay-allow"
          className="input mono !w-[320px]"
          value={allow}
          placeholder="everybody, or 192.0.2.10, 10.20.0.0/24"
          spellCheck={false}
          onChange={(e) => setAllow(e.target.value)}
        />
        <label className="small soft" htmlFor="relay-idle">
          Ends what is quiet for, s
        </label>
        <span className="flex items-center gap-4">
          <input
            id="relay-idle"
            className="input mono !w-[90px]"
            value={idle}
            placeholder="never"
            onChange={(e) => setIdle(e.target.value)}
          />
          <label className="small flex items-center gap-2">
            <input type="checkbox" checked={one} onChange={(e) => setOne(e.target.checked)} />
            one caller at a time
          </label>
          <button type="button" className="button ml-auto" onClick={() => void start()} disabled={links.length === 0}>
            Start the relay
          </button>
        </span>
      </div>
      {problem && <ProblemNotice problem={problem} />}
      {data?.map((r) => (
        <div key={r.id} className="border-b border-rule py-2" data-relay={r.id}>
          <div className="flex items-center gap-3">
            <span>
              <span className="mono">{r.listen}</span> → <b>{r.to}</b>
            </span>
            <span className="small soft">
              {count(r.open, "caller")} now, {r.callers} so far{r.away > 0 && `, ${r.away} turned away`} ·{" "}
              {count(r.sent, "octet")} out, {count(r.received, "octet")} back
            </span>
            <button type="button" className="button tight ml-auto" onClick={() => void keep(r.id)}>
              Keep as a recording
            </button>
            <button type="button" className="button tight" onClick={() => void end(r.id)}>
              Stop
            </button>
          </div>
          {r.says && <p className="notice mt-1">{r.says}</p>}
        </div>
      ))}
    </section>
  );
}
