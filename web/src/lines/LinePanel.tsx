import { useNavigate } from "@tanstack/react-router";
import { useEdit } from "../api/client";
import { useLiveState } from "../api/live";
import type { Line, Serial, SiteView } from "../api/types.gen";
import { number } from "../shared/numbers";
import { useObjectEditor } from "../shared/useObjectEditor";
import { attempt, say } from "../shared/toast";
import { Field } from "../shared/ui";
import { DrawDevice } from "./DrawDevice";
import { FaultSelect } from "./FaultSelect";
import { Here } from "./Here";
import { bauds, baudWord, formatOf } from "./serial";
import { WhoIsThere } from "./Sweep";

/** A line's own settings, this machine beside it, and who is on it. */
export function LinePanel({ site, line }: { site: SiteView; line: Line }) {
  const navigate = useNavigate();
  const edit = useEdit();
  const { state } = useLiveState();
  const editor = useObjectEditor("line", line, site.versions["line:" + line.id] ?? 0);
  const serial = line.medium === "serial";
  const remove = () =>
    attempt(async () => {
      await edit("removed line " + line.name, [
        { kind: "line", id: line.id, base: site.versions["line:" + line.id] ?? 0, after: null },
      ]);
      say(`${line.name} is gone, with its links. Ctrl Z takes it back.`);
      await navigate({ to: "/lines" });
    });
  const put = (what: string, patch: Partial<Line>) => editor.commit(`changed ${what} of line ${line.name}`, patch);
  const format = formatOf(line);
  const putSerial = (what: string, patch: Partial<Serial>) => put(what, { serial: { ...format, ...patch } as Serial });
  return (
    <aside className="panel" aria-label="Line">
      <div className="small soft">Line · {serial ? "serial" : "Ethernet"}</div>
      <h2 className="mb-3 break-words">{line.name}</h2>
      <Field
        label="Name"
        value={line.name}
        onBegin={editor.begin}
        onCommit={(text) => put("the name", { name: text.trim() })}
      />
      {serial ? (
        <>
          <Field
            label="Standard"
            value={format.standard}
            options={site.standards.map((s) => ({ value: s.standard, title: s.title }))}
            onBegin={editor.begin}
            onCommit={(t) => putSerial("the standard", { standard: t as Serial["standard"] })}
          />
          <Field
            label="Baud"
            value={String(format.baud)}
            options={[...new Set([...bauds, format.baud])].map((b) => ({ value: String(b), title: baudWord(b) }))}
            onBegin={editor.begin}
            onCommit={(t) => putSerial("the baud rate", { baud: Number(t) })}
          />
          <Field
            label="Parity"
            value={format.parity}
            options={["even", "none", "odd"].map((p) => ({ value: p, title: p }))}
            onBegin={editor.begin}
            onCommit={(t) => putSerial("the parity", { parity: t as Serial["parity"] })}
          />
          <Field
            label="Data bits"
            value={String(format.data)}
            options={["8", "7"].map((d) => ({ value: d, title: d }))}
            onBegin={editor.begin}
            onCommit={(t) => putSerial("the data bits", { data: Number(t) })}
          />
          <Field
            label="Stop bits"
            value={String(format.stop)}
            options={["1", "2"].map((d) => ({ value: d, title: d }))}
            onBegin={editor.begin}
            onCommit={(t) => putSerial("the stop bits", { stop: Number(t) })}
          />
          <Field
            label="Length"
            unit="m"
            mono
            value={line.serial?.lengthM ? String(line.serial.lengthM) : ""}
            placeholder="not known"
            onBegin={editor.begin}
            onCommit={(t) => putSerial("the length", { lengthM: number(t) })}
          />
        </>
      ) : (
        <>
          <Field
            label="Network"
            mono
            value={line.network ?? ""}
            placeholder="192.0.2.0/24"
            onBegin={editor.begin}
            onCommit={(text) => put("the network", { network: text.trim() })}
          />
          <Field
            label="Gateway"
            mono
            value={line.gateway ?? ""}
            onBegin={editor.begin}
            onCommit={(text) => put("the gateway", { gateway: text.trim() })}
          />
          <Field
            label="Round trip"
            unit="ms"
            mono
            value={line.roundTripMs ? String(line.roundTripMs) : ""}
            placeholder="0"
            onBegin={editor.begin}
            onCommit={(t) => put("the round trip", { roundTripMs: number(t) })}
          />
        </>
      )}
      <Field
        label="Remark"
        value={line.remark ?? ""}
        onBegin={editor.begin}
        onCommit={(text) => put("the remark", { remark: text.trim() })}
      />
      {serial && (
        <Unasked line={line} onBegin={editor.begin} onChange={(cyclic) => put("the cyclic traffic", { cyclic })} />
      )}
      {state.mode === "bench" && site.standIns.some((s) => s.device === line.id) && (
        <>
          <h3 className="mt-4 mb-1">Simulated line on the bench</h3>
          <FaultSelect site={site} device={line.id} />
        </>
      )}
      {!serial && <DrawDevice site={site} line={line} />}
      <WhoIsThere site={site} line={line} />
      <Here line={line} onBegin={editor.begin} onCommit={(here) => put("the serial port of this machine", { here })} />
      <button type="button" className="button danger mt-5" onClick={() => void remove()}>
        Remove the line
      </button>
    </aside>
  );
}

/** Traffic that nobody requests and that takes its time on the line. */
function Unasked({
  line,
  onBegin,
  onChange,
}: {
  line: Line;
  onBegin: () => void;
  onChange: (cyclic: Line["cyclic"]) => Promise<unknown>;
}) {
  const list = line.cyclic ?? [];
  const set = (i: number, patch: Partial<NonNullable<Line["cyclic"]>[number]>) =>
    onChange(list.map((c, j) => (j === i ? { ...c, ...patch } : c)));
  return (
    <section className="mt-4">
      <h3 className="mb-1">Sent without being asked</h3>
      {list.map((c, i) => (
        <div key={i} className="mb-1 border-b border-rule pb-1">
          <Field label="Name" value={c.name} onBegin={onBegin} onCommit={(t) => set(i, { name: t.trim() })} />
          <Field
            label="Every"
            unit="ms"
            mono
            value={String(c.periodMs)}
            onBegin={onBegin}
            onCommit={(t) => set(i, { periodMs: number(t) })}
          />
          <Field
            label="Octets"
            mono
            value={String(c.octets)}
            onBegin={onBegin}
            onCommit={(t) => set(i, { octets: number(t) })}
          />
          <button
            type="button"
            className="small underline"
            onClick={() => {
              onBegin();
              void attempt(() => onChange(list.filter((_, j) => j !== i)));
            }}
          >
            Take it off
          </button>
        </div>
      ))}
      <button
        type="button"
        className="small underline"
        onClick={() => {
          onBegin();
          void attempt(() => onChange([...list, { name: "Time signal", periodMs: 60_000, octets: 12 }]));
        }}
      >
        Add a frame that comes by itself
      </button>
    </section>
  );
}
