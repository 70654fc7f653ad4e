import type { Def, Port, Setting, Settings, SiteView } from "../api/types.gen";
import { whole } from "../shared/numbers";

type Value = Settings[string];

/** What a setting holds, or what holds where nothing is set. */
export const valueOf = (protocol: Def | undefined, settings: Settings | undefined, key: string): Value =>
  settings?.[key] ?? protocol?.settings.find((s) => s.key === key)?.default ?? "";

/** A value as a field shows it. */
export const shownValue = (value: Value): string =>
  typeof value === "boolean" ? (value ? "on" : "off") : String(value);

/** What a person typed or chose, as a value of the setting. */
export function readValue(setting: Setting | undefined, text: string): Value {
  switch (setting?.kind) {
    case "switch":
      return text === "on";
    case "text":
    case "choice":
    case "secret":
    case "file":
      return text.trim();
    default:
      return whole(text);
  }
}

/** What a setting can be chosen from; nothing where it is typed. */
export function optionsOf(setting: Setting): { value: string; title: string }[] | undefined {
  if (setting.kind === "switch")
    return [
      { value: "on", title: "on" },
      { value: "off", title: "off" },
    ];
  return setting.kind === "choice" ? setting.choices : undefined;
}

/** The number that tells an end apart from others on its line, with the protocol's word for it. */
export function stationOf(site: SiteView, protocol: string | undefined, settings: Settings | undefined) {
  const def = site.protocols.find((p) => p.name === protocol);
  const setting = def?.settings.find((s) => s.key === def.station);
  if (!def || !setting) return undefined;
  return {
    key: setting.key,
    title: setting.title,
    word: setting.title.toLowerCase(),
    number: Number(valueOf(def, settings, setting.key)),
    least: setting.least,
    most: setting.most,
  };
}

/** The station of a port in words: "unit 3"; empty where it has none. */
export function stationWords(site: SiteView, port: Port | undefined): string {
  const station = stationOf(site, port?.protocol, port?.settings);
  if (!station) return "";
  return `${station.word} ${port?.unknown?.includes(station.key) ? "not known" : station.number}`;
}
