import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { newId, useEdit } from "../api/client";
import { useLiveState } from "../api/live";
import type { DeviceView, Port, SiteView } from "../api/types.gen";
import { useDeviceEditor } from "../shared/useDeviceEditor";
import { attempt, say } from "../shared/toast";
import { Field } from "../shared/ui";
import { FaultSelect } from "./FaultSelect";

/** A device's own settings, its ports, and its links. */
export function DevicePanel({ site, device }: { site: SiteView; device: DeviceView }) {
  const navigate = useNavigate();
  const edit = useEdit();
  const { state } = useLiveState();
  const version = site.versions["device:" + device.id] ?? 0;
  const editor = useDeviceEditor(site, device);
  const [target, setTarget] = useState("");
  const setPort = (i: number, patch: Partial<Port>) => editor.commit(`changed the port of ${device.name}`, { ports: device.ports.map((p, j) => (j === i ? { ...p, ...patch } : p)) });
  const remove = () => attempt(async () => {
    await edit("removed " + device.name, [{ kind: "device", id: device.id, base: version, after: null }]);
    say(`${device.name} is gone, with its map and links. Ctrl Z takes it back.`);
    await navigate({ to: "/lines" });
  });
  const addLink = () => attempt(async () => {
    const other = site.devices.find((d) => d.id === target);
    const line = device.ports.find((p) => other?.ports.some((q) => q.line === p.line))?.line;
    if (!other || !line) return say("The two devices share no line: give both a port on one.", true);
    const id = newId();
    const protocol = other.ports.find((p) => p.line === line)?.protocol || site.protocols.find((p) => !p.mapOnly)?.name;
    await edit(`linked ${device.name} to ${other.name}`, [{ kind: "link", id, base: 0, after: { id, asking: device.id, answering: other.id, line, protocol } }]);
    await navigate({ to: "/lines/$kind/$id", params: { kind: "link", id } });
  });
  const links = site.links.filter((l) => l.asking === device.id || l.answering === device.id);
  const name = (id: string) => site.devices.find((d) => d.id === id)?.name ?? id;
  return (
    <aside className="panel" aria-label="Device">
      <div className="small soft">Device</div>
      <h2 className="mb-3 break-words">{device.name}</h2>
      {(["name", "model", "remark"] as const).map((key) => (
        <Field key={key} label={key === "name" ? "Name" : key === "model" ? "Model" : "Remark"} value={device[key] ?? ""} onBegin={editor.begin} onCommit={(text) => editor.commit(`changed the ${key} of ${device.name}`, { [key]: text.trim() })} />
      ))}
      {device.ports.map((port, i) => {
        const protocol = site.protocols.find((p) => p.name === port.protocol);
        return (
          <section key={port.line} className="mt-4">
            <h3 className="mb-1">Port on {site.lines.find((l) => l.id === port.line)?.name}</h3>
            <Field label="IP address" mono value={port.host ?? ""} onBegin={editor.begin} onCommit={(text) => setPort(i, { host: text.trim() })} />
            <Field label="Answers in" value={port.protocol ?? ""} options={[{ value: "", title: "nothing, it only asks" }, ...site.protocols.filter((p) => !p.mapOnly).map((p) => ({ value: p.name, title: p.title }))]} onBegin={editor.begin} onCommit={(text) => setPort(i, { protocol: text, settings: {} })} />
            {protocol?.settings.filter((s) => s.end !== "asking").map((s) => (
              <Field key={s.key} label={s.title} unit={s.unit} mono value={String(port.settings?.[s.key] ?? s.default)} onBegin={editor.begin}
                onCommit={(text) => setPort(i, { settings: { ...port.settings, [s.key]: whole(text) } })} />
            ))}
          </section>
        );
      })}
      {site.lines.some((l) => !device.ports.some((p) => p.line === l.id)) && (
        <Field label="Add a port on" value="" options={[{ value: "", title: "choose a line" }, ...site.lines.filter((l) => !device.ports.some((p) => p.line === l.id)).map((l) => ({ value: l.id, title: l.name }))]}
          onBegin={editor.begin} onCommit={(line) => editor.commit(`gave ${device.name} a port`, { ports: [...device.ports, { line, host: "" }] })} />
      )}
      <section className="mt-4">
        <h3 className="mb-1">Map</h3>
        <p className="mb-2"><Link to="/points/$device" params={{ device: device.id }} className="font-semibold underline">{device.pointCount} points</Link></p>
        <Field label="Most registers" unit="a request" mono value={String(device.limits?.maxRegisters ?? "")} placeholder="as the protocol" onBegin={editor.begin} onCommit={(text) => editor.commit(`changed the limits of ${device.name}`, { limits: { ...device.limits, maxRegisters: whole(text) } })} />
        <Field label="Unused registers" value={device.limits?.noBridging ? "no" : "yes"} options={[{ value: "yes", title: "may be read over" }, { value: "no", title: "must not be read" }]} onBegin={editor.begin}
          onCommit={(text) => editor.commit(`changed the limits of ${device.name}`, { limits: { ...device.limits, noBridging: text === "no" } })} />
        <Field label="Long values" value={device.limits?.evenPairs ? "even" : "any"} options={[{ value: "any", title: "begin at any register" }, { value: "even", title: "begin at even wire offsets only" }]} onBegin={editor.begin}
          onCommit={(text) => editor.commit(`changed the limits of ${device.name}`, { limits: { ...device.limits, evenPairs: text === "even" } })} />
        {device.pointCount > 0 && site.protocols.find((p) => p.name === (device.map || "modbus-tcp"))?.areas.map((a) => (
          <Field key={a.key} label={`Has ${a.title}`} mono value={String(device.limits?.areas?.[a.key] ?? "")} placeholder="not stated" onBegin={editor.begin}
            onCommit={(text) => editor.commit(`changed the limits of ${device.name}`, { limits: { ...device.limits, areas: { ...device.limits?.areas, [a.key]: whole(text) } } })} />
        ))}
      </section>
      <section className="mt-4">
        <h3 className="mb-1">Links</h3>
        {links.map((l) => (
          <Link key={l.id} to="/lines/$kind/$id" params={{ kind: "link", id: l.id }} className="block underline">{name(l.asking)} → {name(l.answering)}</Link>
        ))}
        <div className="mt-2 flex gap-2">
          <select className="input" aria-label="Device to ask" value={target} onChange={(e) => setTarget(e.target.value)}>
            <option value="">ask another device…</option>
            {site.devices.filter((d) => d.id !== device.id).map((d) => <option key={d.id} value={d.id}>{d.name}</option>)}
          </select>
          <button type="button" className="button" disabled={!target} onClick={() => void addLink()}>Add a link</button>
        </div>
      </section>
      {state.mode === "bench" && site.standIns.some((s) => s.device === device.id) && (
        <section className="mt-4">
          <h3 className="mb-1">On the bench</h3>
          <Field label="Behaves as" value={device.bench ?? ""} options={[{ value: "", title: "its own map says" }, ...site.models.map((m) => ({ value: m, title: m }))]} onBegin={editor.begin} onCommit={(text) => editor.commit(`changed the stand-in of ${device.name}`, { bench: text })} />
          <FaultSelect site={site} device={device.id} />
        </section>
      )}
      <button type="button" className="button danger mt-5" onClick={() => void remove()}>Remove the device</button>
    </aside>
  );
}

/** A whole number; anything else becomes a value that the store refuses with its reason. */
export function whole(text: string): number {
  const t = text.trim();
  if (t === "") return 0;
  if (!/^-?\d+$/.test(t)) throw new Error(`“${text}” is not a whole number.`);
  return Number(t);
}
