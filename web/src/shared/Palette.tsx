import { useNavigate } from "@tanstack/react-router";
import { useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useState } from "react";
import { get, useSite } from "../api/client";
import type { FoundView } from "../api/types.gen";
import { useOffered, type Action } from "./actions";
import { stationWords } from "../lines/settings";

/** Finds anything and does anything. */
export function Palette({ open, onClose, actions }: { open: boolean; onClose: () => void; actions: Action[] }) {
  const navigate = useNavigate();
  const offered = useOffered();
  const { data: site } = useSite();
  const [search, setSearch] = useState("");
  const done = (run: () => void) => {
    setSearch("");
    onClose();
    run();
  };
  const words = search.toLowerCase().split(/\s+/).filter(Boolean);
  const hit = (text: string) => words.every((word) => text.toLowerCase().includes(word));
  const looked = words.join(" ");
  const { data: points } = useQuery({
    queryKey: ["find", looked],
    queryFn: () => get<FoundView>(`/api/find?words=${encodeURIComponent(looked)}`),
    enabled: open && words.length > 0,
    placeholderData: (old) => old,
  });
  const found = words.length ? (points?.points ?? []).filter((p) => hit(`${p.deviceName} ${p.name} ${p.address}`)) : [];
  const item = (key: string, title: string, hint: string, run: () => void) => (
    <Command.Item key={key} value={key} className="menu-item" onSelect={() => done(run)}>
      <span className="flex-1">{title}</span>
      <span className="small soft">{hint}</span>
    </Command.Item>
  );
  return (
    <Command.Dialog
      open={open}
      onOpenChange={(next) => !next && onClose()}
      label="Find or do"
      shouldFilter={false}
      overlayClassName="overlay"
      contentClassName="dialog high !p-2"
    >
      <Command.Input
        value={search}
        onValueChange={setSearch}
        placeholder="A device, a point, an address, or what to do"
        className="input mb-2"
      />
      <Command.List className="max-h-[56vh] overflow-auto">
        <Command.Empty className="soft p-3">Nothing has that name or address.</Command.Empty>
        {site?.lines
          .filter((l) => hit(l.name))
          .slice(0, 10)
          .map((l) =>
            item(
              "line:" + l.id,
              l.name,
              "line",
              () => void navigate({ to: "/lines/$kind/$id", params: { kind: "line", id: l.id } }),
            ),
          )}
        {site?.devices
          .filter((d) => hit(d.name + " " + d.ports.map((p) => `${p.host ?? ""} ${stationWords(site, p)}`).join(" ")))
          .slice(0, 20)
          .map((d) =>
            item(
              "device:" + d.id,
              d.name,
              d.pointCount ? "map" : "device",
              () =>
                void (d.pointCount
                  ? navigate({ to: "/points/$device", params: { device: d.id } })
                  : navigate({ to: "/lines/$kind/$id", params: { kind: "device", id: d.id } })),
            ),
          )}
        {site?.lists
          .filter((l) => hit(l.name))
          .slice(0, 10)
          .map((l) =>
            item(
              "list:" + l.id,
              l.name,
              "list of names",
              () => void navigate({ to: "/crossings/lists/$list", params: { list: l.id } }),
            ),
          )}
        {(words.length ? (site?.crossings ?? []) : [])
          .filter((c) => hit(`${c.source.name} ${c.target.name}`))
          .slice(0, 10)
          .map((c) =>
            item(
              "crossing:" + c.id,
              `${c.source.name} → ${c.target.name}`,
              "crossing",
              () => void navigate({ to: "/crossings/$id", params: { id: c.id } }),
            ),
          )}
        {found.map((p) =>
          item(
            "point:" + p.id,
            `${p.deviceName} · ${p.name}`,
            p.address,
            () => void navigate({ to: "/points/$device/$point", params: { device: p.device, point: p.id } }),
          ),
        )}
        {[...offered, ...actions]
          .filter((a) => hit(a.title))
          .slice(0, 60)
          .map((a) => item("do:" + a.title, a.title, a.keys ?? "", a.run))}
      </Command.List>
    </Command.Dialog>
  );
}
