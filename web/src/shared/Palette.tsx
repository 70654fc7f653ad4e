import { useNavigate } from "@tanstack/react-router";
import { useQueries, useQueryClient } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useState } from "react";
import { pointsQuery, useSite } from "../api/client";
import { useOffered, type Action } from "./actions";

/** Finds anything and does anything. */
export function Palette({ open, onClose, actions }: { open: boolean; onClose: () => void; actions: Action[] }) {
  const navigate = useNavigate();
  const client = useQueryClient();
  const offered = useOffered();
  const { data: site } = useSite();
  const [search, setSearch] = useState("");
  const maps = useQueries({
    queries: (open && site ? site.devices.filter((d) => d.pointCount > 0) : []).map((d) => pointsQuery(client, d.id)),
  });
  const done = (run: () => void) => {
    setSearch("");
    onClose();
    run();
  };
  const words = search.toLowerCase().split(/\s+/).filter(Boolean);
  const hit = (text: string) => words.every((word) => text.toLowerCase().includes(word));
  const found = words.length
    ? maps.flatMap((m) => (m.data?.rows ?? []).map((row) => ({ row, device: m.data?.device ?? "", name: site?.devices.find((d) => d.id === m.data?.device)?.name ?? "" })))
        .filter(({ row, name }) => hit(`${name} ${row.cells[0]} ${row.cells[1]}`)).slice(0, 40)
    : [];
  const item = (key: string, title: string, hint: string, run: () => void) => (
    <Command.Item key={key} value={key} className="menu-item" onSelect={() => done(run)}>
      <span className="flex-1">{title}</span><span className="small soft">{hint}</span>
    </Command.Item>
  );
  return (
    <Command.Dialog open={open} onOpenChange={(next) => !next && onClose()} label="Find or do" shouldFilter={false} overlayClassName="overlay" contentClassName="dialog high !p-2">
      <Command.Input value={search} onValueChange={setSearch} placeholder="A device, a point, an address, or what to do" className="input mb-2" />
      <Command.List className="max-h-[56vh] overflow-auto">
        <Command.Empty className="soft p-3">Nothing has that name or address.</Command.Empty>
        {site?.lines.filter((l) => hit(l.name)).slice(0, 10).map((l) => item("line:" + l.id, l.name, "line", () => void navigate({ to: "/lines/$kind/$id", params: { kind: "line", id: l.id } })))}
        {site?.devices.filter((d) => hit(d.name + " " + d.ports.map((p) => `${p.host ?? ""} unit ${p.settings?.["unit"] ?? ""}`).join(" "))).slice(0, 20)
          .map((d) => item("device:" + d.id, d.name, d.pointCount ? "map" : "device", () => void (d.pointCount ? navigate({ to: "/points/$device", params: { device: d.id } }) : navigate({ to: "/lines/$kind/$id", params: { kind: "device", id: d.id } }))))}
        {found.map(({ row, device, name }) => item("point:" + row.id, `${name} · ${row.cells[0]}`, row.cells[1], () => void navigate({ to: "/points/$device/$point", params: { device, point: row.id } })))}
        {[...offered, ...actions].filter((a) => hit(a.title)).map((a) => item("do:" + a.title, a.title, a.keys ?? "", a.run))}
      </Command.List>
    </Command.Dialog>
  );
}
