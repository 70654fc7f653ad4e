import { lineOf } from "../api/site";
import type { DeviceView, Line, Port, PortSerial, SiteView } from "../api/types.gen";
import { PointPick } from "../shared/PointPick";
import { usePointName } from "../shared/usePointName";
import { attempt } from "../shared/toast";
import { Field } from "../shared/ui";
import { bauds, baudWord, formatOf } from "./serial";
import { SecondAddress } from "./Redundant";
import { Strangers } from "./Offers";
import { SettingField } from "./SettingField";

/** What a port of a device is set to: its address, its protocol, and on a serial line its characters and its wires. */
export function PortSettings({
  site,
  device,
  port,
  onBegin,
  onChange,
}: {
  site: SiteView;
  device: DeviceView;
  port: Port;
  onBegin: () => void;
  onChange: (patch: Partial<Port>) => Promise<unknown>;
}) {
  const line = lineOf(site, port.line);
  const protocol = site.protocols.find((p) => p.name === port.protocol);
  const serial = line?.medium === "serial";
  const spoken = site.protocols.filter((p) => !p.mapOnly && p.medium === line?.medium);
  const others = (key: string) => (port.unknown ?? []).filter((k) => k !== key);
  return (
    <section className="mt-4">
      <h3 className="mb-1">Port on {line?.name}</h3>
      {!serial && (
        <Field
          label="IP address"
          mono
          value={port.host ?? ""}
          placeholder="192.0.2.21, or a name"
          onBegin={onBegin}
          onCommit={(text) => onChange({ host: text.trim() })}
        />
      )}
      {!serial && port.protocol && !device.serving && (
        <AddressFrom site={site} port={port} onBegin={onBegin} onChange={onChange} />
      )}
      {!serial && port.protocol && !device.serving && (
        <SecondAddress site={site} port={port} onBegin={onBegin} onChange={onChange} />
      )}
      <Field
        label="Answers in"
        value={port.protocol ?? ""}
        options={[
          { value: "", title: "nothing, it only asks" },
          ...spoken.map((p) => ({ value: p.name, title: p.title })),
        ]}
        onBegin={onBegin}
        onCommit={(text) => onChange({ protocol: text, settings: {} })}
      />
      {protocol?.settings
        .filter((s) => s.end !== "asking")
        .map((s) => (
          <SettingField
            key={s.key}
            setting={s}
            value={port.settings?.[s.key]}
            onBegin={onBegin}
            open={{
              unknown: !!port.unknown?.includes(s.key),
              onUnknown: () => onChange({ unknown: [...others(s.key), s.key] }),
            }}
            onCommit={(v) => onChange({ settings: { ...port.settings, [s.key]: v }, unknown: others(s.key) })}
          />
        ))}
      {device.serving && protocol?.answeringKeys && (
        <Strangers device={device.id} file={String(port.settings?.[protocol.answeringKeys.certificate] ?? "")} />
      )}
      {serial && line && <Characters line={line} port={port} onBegin={onBegin} onChange={onChange} />}
      {protocol && (
        <p className="small soft mt-1">A question mark stands for a setting that nobody has looked up yet.</p>
      )}
      {port.think && (
        <p className="small soft mt-1">
          Seen to think {port.think.medianMs.toFixed(1)}
          {"\u2009"}ms, at worst {port.think.worstMs.toFixed(1)}
          {"\u2009"}ms, in {port.think.count} answers.{" "}
          <button
            type="button"
            className="underline"
            onClick={() => {
              onBegin();
              void attempt(() => onChange({ think: undefined }));
            }}
          >
            Forget that
          </button>
        </p>
      )}
      {device.ports.length > 1 && (
        <button
          type="button"
          className="small mt-1 underline"
          onClick={() => {
            onBegin();
            void attempt(() => onChange({ line: "" }));
          }}
        >
          Take it off {line?.name}
        </button>
      )}
    </section>
  );
}

/** The point that gives a port its address on the plant, and which addresses it may give. */
function AddressFrom({
  site,
  port,
  onBegin,
  onChange,
}: {
  site: SiteView;
  port: Port;
  onBegin: () => void;
  onChange: (patch: Partial<Port>) => Promise<unknown>;
}) {
  const givenBy = usePointName(site, port.hostFrom);
  return (
    <>
      <Field
        label="Or one among"
        mono
        value={(port.hostAmong ?? []).join(", ")}
        placeholder="no others"
        help="Addresses, or networks as 192.0.2.0/24, of which a point may give it one: Ferry goes to no others."
        onBegin={onBegin}
        onCommit={(text) => onChange({ hostAmong: text.split(/[\s,;]+/).filter(Boolean) })}
      />
      {(port.hostAmong?.length ?? 0) > 0 && (
        <PointPick
          label="given by"
          name={givenBy}
          none="no point: the one above"
          help="A text with the address. On the plant the link follows it; without a good value it stays where it is."
          onBegin={onBegin}
          onPick={(id) => onChange({ hostFrom: id || undefined })}
        />
      )}
    </>
  );
}

/** Characters and wires of a port on a serial line; what it does not say is as the line has it. */
function Characters({
  line,
  port,
  onBegin,
  onChange,
}: {
  line: Line;
  port: Port;
  onBegin: () => void;
  onChange: (patch: Partial<Port>) => Promise<unknown>;
}) {
  const format = formatOf(line);
  const own: PortSerial = port.serial ?? {};
  const put = (patch: PortSerial) => onChange({ serial: { ...own, ...patch } });
  const choose = (key: "baud" | "parity" | "data" | "stop", text: string) => {
    const unknown = (port.unknown ?? []).filter((k) => k !== key);
    if (text === "?") return onChange({ serial: { ...own, [key]: undefined }, unknown: [...unknown, key] });
    return onChange({
      serial: { ...own, [key]: text === "" ? undefined : key === "parity" ? text : Number(text) },
      unknown,
    });
  };
  const value = (key: "baud" | "parity" | "data" | "stop") =>
    port.unknown?.includes(key) ? "?" : String(own[key] ?? "");
  const as = (text: string | number) => ({ value: "", title: `as the line: ${text}` });
  const open = { value: "?", title: "not known" };
  const yes = [
    { value: "", title: "not known" },
    { value: "yes", title: "yes" },
    { value: "no", title: "no" },
  ];
  const say = (b: boolean | undefined) => (b === undefined ? "" : b ? "yes" : "no");
  const hear = (text: string) => (text === "" ? undefined : text === "yes");
  return (
    <>
      <Field
        label="Baud"
        value={value("baud")}
        options={[as(baudWord(format.baud)), ...bauds.map((b) => ({ value: String(b), title: baudWord(b) })), open]}
        onBegin={onBegin}
        onCommit={(t) => choose("baud", t)}
      />
      <Field
        label="Parity"
        value={value("parity")}
        options={[as(format.parity), ...["even", "none", "odd"].map((p) => ({ value: p, title: p })), open]}
        onBegin={onBegin}
        onCommit={(t) => choose("parity", t)}
      />
      <Field
        label="Data bits"
        value={value("data")}
        options={[as(format.data), { value: "8", title: "8" }, { value: "7", title: "7" }, open]}
        onBegin={onBegin}
        onCommit={(t) => choose("data", t)}
      />
      <Field
        label="Stop bits"
        value={value("stop")}
        options={[as(format.stop), { value: "1", title: "1" }, { value: "2", title: "2" }, open]}
        onBegin={onBegin}
        onCommit={(t) => choose("stop", t)}
      />
      <Field
        label="Its name"
        value={own.name ?? ""}
        placeholder="port 2"
        onBegin={onBegin}
        onCommit={(t) => put({ name: t.trim() || undefined })}
      />
      {line.serial?.standard === "tia-232" ? (
        <Field
          label="Gender"
          value={own.gender ?? ""}
          options={[
            { value: "", title: "not known" },
            { value: "dte", title: "DTE" },
            { value: "dce", title: "DCE" },
          ]}
          onBegin={onBegin}
          onCommit={(t) => put({ gender: (t || undefined) as PortSerial["gender"] })}
        />
      ) : (
        <>
          <Field
            label="Terminated"
            value={say(own.terminated)}
            options={yes}
            onBegin={onBegin}
            onCommit={(t) => put({ terminated: hear(t) })}
          />
          {line.serial?.standard === "tia-485-2w" && (
            <Field
              label="Biases the pair"
              value={say(own.biased)}
              options={yes}
              onBegin={onBegin}
              onCommit={(t) => put({ biased: hear(t) })}
            />
          )}
          <Field
            label="Unit loads"
            mono
            value={String(own.unitLoad ?? 1)}
            onBegin={onBegin}
            onCommit={(t) => {
              const load = Number(t.replace(",", "."));
              if (!(load > 0)) throw new Error(`“${t}” is no share of a unit load: write 1, or 0.25.`);
              return put({ unitLoad: load });
            }}
          />
        </>
      )}
    </>
  );
}
