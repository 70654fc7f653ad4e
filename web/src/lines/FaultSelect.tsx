import { useQueryClient } from "@tanstack/react-query";
import { useId } from "react";
import { post } from "../api/client";
import type { Fault, FaultKind, SiteView } from "../api/types.gen";
import { LongName } from "../shared/LongName";
import { attempt } from "../shared/toast";

const option = (f: FaultKind) => (
  <option key={f.kind} value={f.kind}>
    {f.title}
  </option>
);

/** Switches a fault of a stand-in on the bench: of a device, or of a simulated line. */
export function FaultSelect({ site, device, named }: { site: SiteView; device: string; named?: boolean }) {
  const client = useQueryClient();
  const id = useId();
  const standIn = site.standIns.find((s) => s.device === device);
  if (!standIn) return null;
  const faults = site.faults.filter(
    (f) => f.places.includes(standIn.place) && (!f.protocols?.length || f.protocols.includes(standIn.protocol ?? "")),
  );
  const kind = site.faults.find((f) => f.kind === standIn.fault.kind);
  const set = (fault: Fault) =>
    attempt(async () => {
      await post("/api/bench/fault", { device, fault });
      await client.invalidateQueries({ queryKey: ["site"] });
    });
  return (
    <div className="grid grid-cols-[112px_1fr] items-center gap-x-3 py-1">
      <label htmlFor={id} className={named ? "min-w-0" : "small soft"} title={standIn.name}>
        {named ? <LongName name={standIn.name} /> : "Fault"}
      </label>
      <span className="flex gap-1">
        <select
          id={id}
          className="input"
          data-fault-of={device}
          value={standIn.fault.kind}
          style={standIn.fault.kind ? { borderColor: "var(--doubt)", background: "var(--doubt-wash)" } : undefined}
          onChange={(e) =>
            void set({ kind: e.target.value, value: site.faults.find((f) => f.kind === e.target.value)?.default ?? 0 })
          }
        >
          {faults.filter((f) => !f.habit).map(option)}
          {faults.some((f) => f.habit) && (
            <optgroup label="Odd, and well all the same">{faults.filter((f) => f.habit).map(option)}</optgroup>
          )}
        </select>
        {kind?.unit && (
          <input
            className="input mono !w-[72px]"
            aria-label={`${kind.unit} of the fault of ${standIn.name}`}
            title={kind.unit}
            defaultValue={standIn.fault.value}
            key={standIn.fault.kind + standIn.fault.value}
            onKeyDown={(e) =>
              e.key === "Enter" && void set({ kind: standIn.fault.kind, value: Number(e.currentTarget.value) })
            }
            onBlur={(e) =>
              Number(e.currentTarget.value) !== standIn.fault.value &&
              void set({ kind: standIn.fault.kind, value: Number(e.currentTarget.value) })
            }
          />
        )}
      </span>
    </div>
  );
}
