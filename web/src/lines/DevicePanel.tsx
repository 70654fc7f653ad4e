import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { newId, useEdit } from "../api/client";
import { useLiveState } from "../api/live";
import { deviceOf, mapProtocol, nameOf } from "../api/site";
import type { DeviceView, Limits, Port, SiteView } from "../api/types.gen";
import { shortened } from "../shared/LongName";
import { whole } from "../shared/numbers";
import { useDeviceEditor } from "../shared/useDeviceEditor";
import { attempt, say } from "../shared/toast";
import { Field } from "../shared/ui";
import { Heartbeat } from "./Heartbeat";
import { Access } from "./Access";
import { FaultSelect } from "./FaultSelect";
import { readRuns, runExample, runText } from "./limits";
import { PortSettings } from "./PortSettings";
import { Serving } from "./Serving";

/** A device's own settings, its ports, and its links. */
export function DevicePanel({ site, device }: { site: SiteView; device: DeviceView }) {
  const navigate = useNavigate();
  const edit = useEdit();
  const { state } = useLiveState();
  const version = site.versions["device:" + device.id] ?? 0;
  const editor = useDeviceEditor(site, device);
  const [target, setTarget] = useState("");
  const map = site.protocols.find((p) => p.name === device.map);
  // A port that is taken off its line goes.
  const setPort = (i: number, patch: Partial<Port>) =>
    editor.commit(`changed the port of ${device.name}`, {
      ports: device.ports.map((p, j) => (j === i ? { ...p, ...patch } : p)).filter((p) => p.line !== ""),
    });
  const limit = (patch: Partial<Limits>) =>
    editor.commit(`changed the limits of ${device.name}`, { limits: { ...device.limits, ...patch } });
  const remove = () =>
    attempt(async () => {
      await edit("removed " + device.name, [{ kind: "device", id: device.id, base: version, after: null }]);
      say(`${device.name} is gone, with its map and links. Ctrl Z takes it back.`);
      await navigate({ to: "/lines" });
    });
  const addLink = () =>
    attempt(async () => {
      const other = deviceOf(site, target);
      const line = device.ports.find((p) => other?.ports.some((q) => q.line === p.line))?.line;
      if (!other || !line) return say("The two devices share no line: give both a port on one.", true);
      const id = newId();
      // Of several protocols in which it answers there, the first in which nobody here asks it yet.
      const spoken = other.ports.filter((p) => p.line === line && p.protocol).map((p) => p.protocol);
      const asked = site.links.filter((l) => l.asking === device.id && l.answering === other.id && l.line === line);
      const protocol =
        spoken.find((name) => !asked.some((l) => l.protocol === name)) ??
        spoken[0] ??
        site.protocols.find((p) => !p.mapOnly)?.name;
      await edit(`linked ${device.name} to ${other.name}`, [
        { kind: "link", id, base: 0, after: { id, asking: device.id, answering: other.id, line, protocol } },
      ]);
      await navigate({ to: "/lines/$kind/$id", params: { kind: "link", id } });
    });
  const areas = mapProtocol(site, device)?.areas ?? [];
  const links = site.links.filter((l) => l.asking === device.id || l.answering === device.id);
  const asked = site.load
    .filter((l) => links.some((k) => k.id === l.link && k.answering === device.id))
    .reduce((n, l) => ({ requests: n.requests + l.perSecond, packets: n.packets + l.packets }), {
      requests: 0,
      packets: 0,
    });
  const bears = device.limits?.perSecond;
  const name = (id: string) => nameOf(site, id);
  // A device may answer in several protocols at one address, and has a port for each.
  const free = site.lines
    .filter((l) => l.medium === "ethernet" || !device.ports.some((p) => p.line === l.id))
    .filter((l) => device.ports.every((p) => p.line !== l.id || p.protocol))
    .map((l) => ({
      value: l.id,
      title: device.ports.some((p) => p.line === l.id) ? `${l.name}, for another protocol` : l.name,
    }));
  return (
    <aside className="panel" aria-label="Device">
      <div className="small soft">Device</div>
      <h2 className="mb-3 break-words">{device.name}</h2>
      {(["name", "model", "cabinet", "remark"] as const).map((key) => (
        <Field
          key={key}
          label={{ name: "Name", model: "Model", cabinet: "Cabinet", remark: "Remark" }[key]}
          value={device[key] ?? ""}
          onBegin={editor.begin}
          onCommit={(text) => editor.commit(`changed the ${key} of ${device.name}`, { [key]: text.trim() })}
        />
      ))}
      {device.ports.map((port, i) => (
        <PortSettings
          key={`${port.line} ${i}`}
          site={site}
          device={device}
          port={port}
          onBegin={editor.begin}
          onChange={(patch) => setPort(i, patch)}
        />
      ))}
      {free.length > 0 && (
        <Field
          key={device.ports.length}
          label="Add a port on"
          value=""
          options={[{ value: "", title: "choose a line" }, ...free]}
          onBegin={editor.begin}
          onCommit={(line) =>
            editor.commit(`gave ${device.name} a port`, {
              ports: [...device.ports, { line, host: device.ports.find((p) => p.line === line)?.host }],
            })
          }
        />
      )}
      <Serving device={device} onBegin={editor.begin} onChange={(what, patch) => editor.commit(what, patch)} />
      <Access
        site={site}
        device={device}
        onBegin={editor.begin}
        onChange={(what, patch) => editor.commit(what, patch)}
      />
      <section className="mt-4">
        <h3 className="mb-1">Map</h3>
        <p className="mb-2">
          <Link to="/points/$device" params={{ device: device.id }} className="font-semibold underline">
            {device.pointCount} points
          </Link>
        </p>
        {map?.ranged && (
          <>
            <Field
              label={map?.areas[0]?.unitBits === 8 ? "Most bytes" : "Most registers"}
              unit="a request"
              mono
              value={String(device.limits?.maxRegisters ?? "")}
              placeholder="as the protocol"
              onBegin={editor.begin}
              onCommit={(text) => limit({ maxRegisters: whole(text) })}
            />
            <Field
              label={map?.areas[0]?.unitBits === 8 ? "Unused bytes" : "Unused registers"}
              value={device.limits?.noBridging ? "no" : "yes"}
              options={[
                { value: "yes", title: "may be read over" },
                { value: "no", title: "must not be read" },
              ]}
              onBegin={editor.begin}
              onCommit={(text) => limit({ noBridging: text === "no" })}
            />
            <Field
              label="Long values"
              value={device.limits?.evenPairs ? "even" : "any"}
              options={[
                { value: "any", title: "begin at any register" },
                { value: "even", title: "begin at even wire offsets only" },
              ]}
              onBegin={editor.begin}
              onCommit={(text) => limit({ evenPairs: text === "even" })}
            />
            <Field
              label="Requests"
              value={device.limits?.evenRequests ? "even" : "any"}
              options={[
                { value: "any", title: "may begin and end anywhere" },
                { value: "even", title: "begin and end at even wire offsets" },
              ]}
              onBegin={editor.begin}
              onCommit={(text) => limit({ evenRequests: text === "even" })}
            />
            <Field
              label="Must not be read"
              mono
              value={(device.limits?.forbidden ?? []).map(runText).join(", ")}
              placeholder={runExample(map)}
              onBegin={editor.begin}
              onCommit={(text) => limit({ forbidden: readRuns(text, map) })}
            />
          </>
        )}
        <Field
          label="Connections"
          mono
          value={String(device.limits?.connections || "")}
          placeholder="not stated"
          onBegin={editor.begin}
          onCommit={(text) => limit({ connections: whole(text) })}
        />
        <Field
          label="Bears"
          unit="requests or packets/s"
          mono
          value={String(device.limits?.perSecond || "")}
          placeholder="not stated"
          onBegin={editor.begin}
          onCommit={(text) => limit({ perSecond: whole(text) })}
        />
        {Object.entries(device.limits?.most ?? {}).map(([area, most]) => (
          <Known
            key={area}
            what={`bears at most ${most} ${areas.find((a) => a.key === area)?.title ?? area} in one request`}
            onForget={() => {
              editor.begin();
              return limit({
                most: Object.fromEntries(Object.entries(device.limits?.most ?? {}).filter(([other]) => other !== area)),
              });
            }}
          />
        ))}
        {(device.limits?.manners ?? []).map((code) => (
          <Known
            key={code}
            what={site.manners.find((m) => m.code === code)?.does ?? code}
            onForget={() => {
              editor.begin();
              return limit({ manners: device.limits?.manners?.filter((m) => m !== code) });
            }}
          />
        ))}
        {asked.requests + asked.packets > 0 && (
          <p
            className="small soft"
            style={bears && asked.requests + asked.packets > bears ? { color: "var(--fault)" } : undefined}
          >
            {[
              asked.requests > 0 ? `The timetable asks it ${asked.requests.toFixed(1)} times a second` : "",
              asked.packets > 0 ? `${asked.packets.toFixed(1)} packets a second are exchanged with it in cycles` : "",
            ]
              .filter(Boolean)
              .join(", and ")}
            {bears ? `, of ${bears} that it bears` : ""}.
          </p>
        )}
        {device.pointCount > 0 &&
          areas.map((a) => (
            <Field
              key={a.key}
              label={`Has ${a.title}`}
              mono
              value={String(device.limits?.areas?.[a.key] ?? "")}
              placeholder="not stated"
              onBegin={editor.begin}
              onCommit={(text) => limit({ areas: { ...device.limits?.areas, [a.key]: whole(text) } })}
            />
          ))}
      </section>
      {device.pointCount > 0 && (
        <section className="mt-4" aria-label="Heartbeat">
          <h3 className="mb-1">Heartbeat</h3>
          <Heartbeat site={site} device={device} />
        </section>
      )}
      <section className="mt-4">
        <h3 className="mb-1">Links</h3>
        {links.map((l) => (
          <Link key={l.id} to="/lines/$kind/$id" params={{ kind: "link", id: l.id }} className="block underline">
            {name(l.asking)} → {name(l.answering)}
          </Link>
        ))}
        <div className="mt-2 flex gap-2">
          <select
            className="input"
            aria-label="Device to ask"
            value={target}
            onChange={(e) => setTarget(e.target.value)}
          >
            <option value="">ask another device…</option>
            {site.devices
              .filter((d) => d.id !== device.id)
              .map((d) => (
                <option key={d.id} value={d.id} title={d.name}>
                  {shortened(d.name, 30)}
                </option>
              ))}
          </select>
          <button type="button" className="button" disabled={!target} onClick={() => void addLink()}>
            Add a link
          </button>
        </div>
      </section>
      {state.mode === "bench" && site.standIns.some((s) => s.device === device.id) && (
        <section className="mt-4">
          <h3 className="mb-1">On the bench</h3>
          <Field
            label="Behaves as"
            value={device.bench ?? ""}
            options={[{ value: "", title: "its own map says" }, ...site.models.map((m) => ({ value: m, title: m }))]}
            onBegin={editor.begin}
            onCommit={(text) => editor.commit(`changed the stand-in of ${device.name}`, { bench: text })}
          />
          <FaultSelect site={site} device={device.id} />
        </section>
      )}
      <button type="button" className="button danger mt-5" onClick={() => void remove()}>
        Remove the device
      </button>
    </aside>
  );
}

/** Something that was found out of a device and noted. */
function Known({ what, onForget }: { what: string; onForget: () => Promise<unknown> }) {
  return (
    <p className="small mb-1 flex items-start gap-2">
      <span className="min-w-0 flex-1">It is known that it {what}.</span>
      <button type="button" className="button tight" onClick={() => void attempt(onForget)}>
        No longer
      </button>
    </p>
  );
}
