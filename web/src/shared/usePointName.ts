import { usePoint } from "../api/client";
import { nameOf } from "../api/site";
import type { SiteView } from "../api/types.gen";

/** The name of a point with that of its device; empty for none. */
export function usePointName(site: SiteView, id: string | undefined): string {
  const { data } = usePoint(id, 0);
  return id && data ? `${nameOf(site, data.device)} · ${data.point.name}` : "";
}
