import type { Def, Design, DeviceView, Meter, SheetsView, SheetView, SiteView } from "../api/types.gen";
import { valueOf } from "../lines/settings";

/** The formats that meters come with, most usual first. */
export const framings = ["8E1", "8N1", "8N2", "8O1"];

/** A gateway that says nothing of itself yet. */
export function blank(site: SiteView): Design {
  const makes = site.protocols.find((p) => p.makes);
  const net = site.lines.find((l) => l.medium === makes?.medium);
  return {
    line: "",
    newLine: {
      name: fresh(
        "Meter line",
        site.lines.map((l) => l.name),
      ),
      format: { baud: 9600, data: 8, parity: "even", stop: 1 },
      kind: "tia-485-2w",
    },
    fastest: true,
    models: [],
    meters: [],
    as: {
      device: "",
      protocol: makes?.name ?? "",
      name: fresh(
        "Energy gateway",
        site.devices.map((d) => d.name),
      ),
      line: net?.id ?? "",
      host: "",
      settings: {},
    },
    reader: { name: "", host: "", paceMs: 5000 },
  };
}

/** The gateways that are there already: the first device at each address at which Ferry gives values on. */
export function gatewaysOf(site: SiteView): DeviceView[] {
  const makes = new Set(site.protocols.filter((p) => p.makes).map((p) => p.name));
  const seen = new Set<string>();
  return site.devices.filter((d) => {
    const door = d.serving && d.ports.find((p) => p.protocol && makes.has(p.protocol));
    const at = door && `${door.line} ${door.protocol} ${door.host}`;
    if (!at || seen.has(at)) return false;
    seen.add(at);
    return true;
  });
}

/** The one pace at which all lists on a line are read; 0 where they have several, or their own. */
function paceOn(site: SiteView, line: string): number {
  const paces = site.links
    .filter((l) => l.line === line)
    .flatMap((l) => site.devices.find((d) => d.id === l.answering)?.placements ?? [])
    .map((p) => p.paceMs ?? 0);
  return paces.length > 0 && paces.every((p) => p === paces[0]) ? (paces[0] ?? 0) : 0;
}

/**
 * The design with another line: what asks on it already, as a gateway, is what its meters come onto. They are read
 * as what is there is, and nothing that is there is read otherwise, until somebody wants that.
 */
export function onLine(site: SiteView, d: Design, line: string): Design {
  const asks = site.links.find((l) => l.line === line)?.asking;
  const gateway = gatewaysOf(site).find((g) => g.id === asks);
  return {
    ...d,
    line,
    all: false,
    fastest: !site.links.some((l) => l.line === line),
    paceMs: paceOn(site, line),
    meters: d.meters.filter((m) => !m.device),
    as: { ...d.as, device: gateway?.id ?? d.as.device },
  };
}

export function fresh(name: string, taken: string[]) {
  let n = 1;
  while (taken.includes(n === 1 ? name : `${name} ${n}`)) n++;
  return n === 1 ? name : `${name} ${n}`;
}

const areasOf = (d: Def | undefined) => (d?.areas ?? []).map((a) => a.key).join(" ");

/** The lists of meters that can be on a serial line: those whose maps a serial protocol reads. */
export function readyLists(site: SiteView, sheets: SheetsView | undefined): SheetView[] {
  const serial = new Set(site.protocols.filter((p) => p.medium === "serial" && p.areas.length).map(areasOf));
  return (sheets?.datasheets ?? []).filter((d) => serial.has(areasOf(site.protocols.find((p) => p.name === d.map))));
}

/** What a device of a list is told apart by on a serial line: the title of that setting. */
export function stationTitle(site: SiteView, list: SheetView | undefined): string {
  const areas = areasOf(site.protocols.find((p) => p.name === list?.map));
  const near = site.protocols.find((p) => p.medium === "serial" && p.station && areasOf(p) === areas);
  return near?.settings.find((s) => s.key === near.station)?.title ?? "Number";
}

/** So many meters more, of a model, from a unit on. */
export function withMeters(
  site: SiteView,
  d: Design,
  sheet: string,
  count: number,
  from: number,
  name: string,
): Design {
  const models = d.models.some((m) => m.datasheet === sheet) ? d.models : [...d.models, { datasheet: sheet }];
  const model = models.findIndex((m) => m.datasheet === sheet);
  const names = [...site.devices.map((x) => x.name), ...d.meters.map((m) => m.name)];
  const meters: Meter[] = [...d.meters];
  let n = d.meters.length;
  for (let i = 0; i < count; i++) {
    const numbered = () => name.replaceAll("{n}", String(++n));
    let own = name.includes("{n}") ? numbered() : fresh(count > 1 ? `${name} ${i + 1}` : name, names);
    while (names.includes(own)) own = name.includes("{n}") ? numbered() : fresh(own, names);
    names.push(own);
    meters.push({ name: own, station: from + i, model });
  }
  return { ...d, models, meters };
}

/** The units that devices have on the line of a design. */
const stationsOn = (site: SiteView, d: Design) =>
  site.devices.flatMap((x) =>
    x.ports
      .filter((p) => d.line && p.line === d.line && p.protocol)
      .map((p) => {
        const def = site.protocols.find((o) => o.name === p.protocol);
        return def?.station ? Number(valueOf(def, p.settings, def.station)) : 0;
      }),
  );

/** The unit behind the last. */
export const nextStation = (site: SiteView, d: Design) =>
  Math.max(0, ...stationsOn(site, d), ...d.meters.map((m) => m.station)) + 1;

const key = (site: SiteView) => `ferry gateway ${site.name}`;

/** What was typed outlasts a look at another screen. */
export function kept(site: SiteView): Design | undefined {
  try {
    const text = sessionStorage.getItem(key(site));
    return text ? (JSON.parse(text) as Design) : undefined;
  } catch {
    return undefined; // what cannot be read is begun anew
  }
}

export function keep(site: SiteView, d: Design | undefined) {
  if (d) sessionStorage.setItem(key(site), JSON.stringify(d));
  else sessionStorage.removeItem(key(site));
}
