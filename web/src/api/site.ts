import type { DeviceView, Line, LinkView, SiteView } from "./types.gen";

interface Index {
  devices: Map<string, DeviceView>;
  lines: Map<string, Line>;
  links: Map<string, LinkView>;
  linkTo: Map<string, LinkView>; // the first that asks a device
}

const indexes = new WeakMap<SiteView, Index>();

/** What a site has, by id: made once for each version of it. */
function indexOf(site: SiteView): Index {
  let index = indexes.get(site);
  if (!index) {
    const byId = <T extends { id: string }>(list: T[]) => new Map(list.map((each) => [each.id, each]));
    index = {
      devices: byId(site.devices),
      lines: byId(site.lines),
      links: byId(site.links),
      linkTo: new Map(site.links.toReversed().map((l) => [l.answering, l])),
    };
    indexes.set(site, index);
  }
  return index;
}

type Site = SiteView | undefined;
type Id = string | undefined;

export const deviceOf = (site: Site, id: Id) => (site && id ? indexOf(site).devices.get(id) : undefined);
export const lineOf = (site: Site, id: Id) => (site && id ? indexOf(site).lines.get(id) : undefined);
export const linkOf = (site: Site, id: Id) => (site && id ? indexOf(site).links.get(id) : undefined);
export const linkTo = (site: Site, device: Id) => (site && device ? indexOf(site).linkTo.get(device) : undefined);
/** The name of a device, or its id where it is gone. */
export const nameOf = (site: Site, id: string) => deviceOf(site, id)?.name ?? id;

/** The protocol that is meant on lines of a medium where nobody says another. */
export const usualOn = (site: SiteView, medium: string | undefined) => {
  const on = site.protocols.filter((p) => p.medium === medium && !p.mapOnly);
  return (on.find((p) => p.usual) ?? on[0])?.name;
};
/** The protocol that the map of a device is written for. */
export const mapProtocol = (site: SiteView, device: { map?: string }) => {
  const name = device.map || usualOn(site, "ethernet");
  return site.protocols.find((p) => p.name === name);
};
