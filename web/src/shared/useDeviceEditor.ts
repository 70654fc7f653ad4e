import type { DeviceView, SiteView } from "../api/types.gen";
import { useObjectEditor } from "./useObjectEditor";

/** What goes to the store of a device: its points are objects of their own. */
export const withoutPoints = ({ pointCount: _count, maps: _maps, points: _points, ...rest }: DeviceView) => ({
  ...rest,
  points: null,
});

/** Changes parts of a device. */
export const useDeviceEditor = (site: SiteView, device: DeviceView) =>
  useObjectEditor("device", device, site.versions["device:" + device.id] ?? 0, withoutPoints);
