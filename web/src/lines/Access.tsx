import { useState } from "react";
import type { AccessLine, DeviceView, SiteView } from "../api/types.gen";
import { AccessEntry } from "../shared/AccessEntry";
import { attempt } from "../shared/toast";
import { clockDay } from "../shared/ui";

/** What must be switched on in a device before it answers, ticked with who and when. */
export function Access({
  site,
  device,
  onBegin,
  onChange,
}: {
  site: SiteView;
  device: DeviceView;
  onBegin: () => void;
  onChange: (what: string, patch: Partial<DeviceView>) => Promise<unknown>;
}) {
  const [by, setBy] = useState(() => localStorage.getItem("ferry-name") ?? "");
  const list = site.checklists[device.id] ?? [];
  const ticked = new Map((device.ticks ?? []).map((t) => [t.line, t]));
  const tick = (line: AccessLine) =>
    attempt(() => {
      onBegin();
      const others = (device.ticks ?? []).filter((t) => t.line !== line.id);
      const done = ticked.has(line.id);
      return onChange(`${done ? "took the tick off" : "ticked"} “${line.text}” of ${device.name}`, {
        ticks: done
          ? others
          : [...others, { line: line.id, by: by.trim() || "somebody", at: new Date().toISOString() }],
      });
    });
  return (
    <section className="mt-4" aria-label="Access">
      <h3 className="mb-1">Access</h3>
      {list.length === 0 && (
        <p className="small soft">Nothing is listed that has to be switched on in this device before it answers.</p>
      )}
      <ul>
        {list.map((line) => {
          const done = ticked.get(line.id);
          return (
            <li key={line.id} className="py-1">
              <label className="flex gap-2">
                <input
                  type="checkbox"
                  className="mt-[3px] h-[16px] w-[16px] shrink-0"
                  checked={!!done}
                  onChange={() => void tick(line)}
                />
                <span>
                  {line.text}
                  <span className="small soft block">
                    {site.accessKinds.find((k) => k.kind === line.kind)?.title}
                    {done && ` · ${done.by}, ${clockDay(Date.parse(done.at))}`}
                    {device.access?.some((a) => a.id === line.id) && (
                      <>
                        {" "}
                        ·{" "}
                        <button
                          type="button"
                          className="underline"
                          onClick={() =>
                            void attempt(() => {
                              onBegin();
                              return onChange(`took a line off the access checklist of ${device.name}`, {
                                access: device.access?.filter((a) => a.id !== line.id),
                              });
                            })
                          }
                        >
                          take off
                        </button>
                      </>
                    )}
                  </span>
                </span>
              </label>
            </li>
          );
        })}
      </ul>
      {list.length > 0 && (
        <label className="small soft mt-1 flex items-center gap-2">
          Ticked by
          <input
            className="input !w-[150px]"
            aria-label="Ticked by"
            value={by}
            placeholder="your name"
            onChange={(e) => {
              setBy(e.target.value);
              localStorage.setItem("ferry-name", e.target.value);
            }}
          />
        </label>
      )}
      <AccessEntry
        site={site}
        onAdd={(line) => {
          onBegin();
          return onChange(`added to the access checklist of ${device.name}`, {
            access: [...(device.access ?? []), line],
          });
        }}
      />
    </section>
  );
}
