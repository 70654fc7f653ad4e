import type { DeviceView, SiteView } from "../api/types.gen";
import { PointPick } from "../shared/PointPick";
import { readSpan, spanText } from "../shared/spans";
import { Field } from "../shared/ui";
import { useDeviceEditor } from "../shared/useDeviceEditor";
import { usePointName } from "../shared/usePointName";

/** The point of a device that has to change, or what is read of it is doubted. */
export function Heartbeat({ site, device }: { site: SiteView; device: DeviceView }) {
  const editor = useDeviceEditor(site, device);
  const given = usePointName(site, device.alive?.point);
  const within = device.alive?.withinMs ?? 10_000;
  const change = (alive: DeviceView["alive"]) => editor.commit(`changed the heartbeat of ${device.name}`, { alive });
  return (
    <>
      <PointPick
        label="It gives"
        name={given}
        none="no point"
        of={device.id}
        help="A point of it that its program counts on or turns. While it stands still, everything else read of the device is doubted."
        onBegin={editor.begin}
        onPick={(id) => change(id ? { point: id, withinMs: within } : undefined)}
      />
      {device.alive && (
        <Field
          label="Changes within"
          mono
          value={spanText(within)}
          onBegin={editor.begin}
          onCommit={async (text) => change({ point: device.alive?.point ?? "", withinMs: readSpan(text) })}
        />
      )}
    </>
  );
}
