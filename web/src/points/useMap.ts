import { useSearch } from "@tanstack/react-router";
import { usePoint } from "../api/client";
import type { DeviceView } from "../api/types.gen";

/**
 * Which map of a device is shown: the one that the address names, that of the point that is opened, or the device's
 * own, which is the empty name.
 */
export function useMap(device: DeviceView | undefined, point: string | undefined): string {
  const search = useSearch({ strict: false }) as { map?: string };
  const several = (device?.maps.length ?? 0) > 1;
  const { data } = usePoint(several ? point : undefined, 0);
  if (search.map) return search.map;
  return (data?.device === device?.id && data?.point.map) || "";
}
