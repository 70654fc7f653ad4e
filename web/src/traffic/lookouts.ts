import type { DeviceView, Line, LinkView, Lookout, Outlet, SiteView } from "../api/types.gen";

/** What can be looked out for, in words. */
export const seesWords: Record<Lookout["sees"], string> = {
  finding: "a finding appears",
  down: "a link brings nothing",
  limits: "a value is outside limits",
  still: "a value does not move",
  bad: "a value is not good",
  slow: "answers take long",
};

/** How outlets are told, in words. */
export const wayWords: Record<Outlet["way"], string> = {
  mail: "an e-mail",
  webhook: "a post to the web",
  message: "a message to a broker",
  program: "a program on this machine",
};

export const ofPoints = (sees: Lookout["sees"]) => sees === "limits" || sees === "still" || sees === "bad";

/** How a link is called: by what answers, with who asks. */
export const linkName = (site: SiteView, link: LinkView) => {
  const name = (id: string) => site.devices.find((d) => d.id === id)?.name ?? id;
  return `${name(link.asking)} → ${name(link.answering)}`;
};

/** What a lookout looks at that is no point, by its name. */
export function placeName(site: SiteView, of: string | undefined): string {
  if (!of) return "the whole site";
  const line: Line | undefined = site.lines.find((l) => l.id === of);
  const device: DeviceView | undefined = site.devices.find((d) => d.id === of);
  const link = site.links.find((l) => l.id === of);
  return line?.name ?? device?.name ?? (link ? linkName(site, link) : "a point");
}

/** A name that nothing has yet. */
export function freeName(name: string, others: { name: string }[]): string {
  const taken = new Set(others.map((o) => o.name));
  for (let n = 2, free = name; ; n++) {
    if (!taken.has(free)) return free;
    free = `${name} ${n}`;
  }
}

/** A new lookout that means something as it stands. */
export const newLookout = (id: string, others: Lookout[]): Lookout => ({
  id,
  name: freeName("A link brings nothing", others),
  sees: "down",
  forMs: 5000,
  endMs: 5000,
});
