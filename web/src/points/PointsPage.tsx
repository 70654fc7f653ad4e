import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { ChevronDown } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useCallback, useRef, useState, type ReactNode } from "react";
import { mapPath, post, usePoints, useSite } from "../api/client";
import { useLiveState } from "../api/live";
import { deviceOf, linkTo, mapProtocol } from "../api/site";
import type { DeviceView, EdgesView, NameRule, SiteView } from "../api/types.gen";
import { useOffer } from "../shared/actions";
import { shortened } from "../shared/LongName";
import { attempt } from "../shared/toast";
import { Dialog, Empty } from "../shared/ui";
import { useDeviceEditor } from "../shared/useDeviceEditor";
import { count } from "../shared/numbers";
import { Bulk } from "./Bulk";
import { useColumns } from "./columns";
import { MapFinding } from "./Fixes";
import { Grid, titles } from "./Grid";
import { Inspector } from "./Inspector";
import { Intake, type Source } from "./Intake";
import { Ribbon } from "./Ribbon";
import { useMap } from "./useMap";

const noColumns: string[] = [];

/** The map of one device: the ribbon to scale, the grid, and the inspector. */
export function PointsPage() {
  const params = useParams({ strict: false });
  const navigate = useNavigate();
  const { data: site } = useSite();
  const device =
    deviceOf(site, params.device) ?? (params.device ? undefined : site?.devices.find((d) => d.pointCount > 0));
  const link = linkTo(site, device?.id);
  const map = useMap(device, params.point);
  const { data: points } = usePoints(device?.id, map);
  const [intake, setIntake] = useState<Source>();
  const [bulk, setBulk] = useState(false);
  const [filtering, setFiltering] = useState(false);
  const [selection, setSelection] = useState<{ ids: string[]; columns: string[] }>({ ids: [], columns: [] });
  const [edges, setEdges] = useState<EdgesView>();
  const live = useLiveState();
  const columns = useColumns(points?.columns ?? noColumns);
  const file = useRef<HTMLInputElement>(null);
  const select = useCallback((ids: string[], own: string[]) => setSelection({ ids, columns: own }), []);
  const id = device?.id ?? "";
  // These stay the same from one drawing to the next: grid and ribbon are not drawn again with every value.
  const open = useCallback(
    (point: string) => void navigate({ to: "/points/$device/$point", params: { device: id, point }, replace: true }),
    [navigate, id],
  );
  const takeTable = useCallback((text: string) => setIntake({ text }), []);
  const path = (what: string, more = "") => (points ? mapPath(points, what, more) : "");
  const looked = !!site?.protocols.find((p) => p.name === link?.protocol)?.looked;
  const { handsOut, handsBeside } = site?.protocols.find((p) => p.name === device?.map) ?? {};
  const askEdges = () => attempt(async () => setEdges(await post<EdgesView>(path("edges"))));
  useOffer(
    `${id} ${params.point ?? ""}`,
    !points
      ? []
      : [
          { title: "Paste rows into this map", run: () => setIntake({}) },
          { title: "Bring a file into this map…", run: () => file.current?.click() },
          ...(params.point
            ? [
                {
                  title: "Fathom the chosen point",
                  run: () =>
                    setTimeout(() => document.querySelector<HTMLElement>('[aria-label="The display shows"]')?.focus()),
                },
              ]
            : []),
          { title: "Filter the rows of this map", run: () => setFiltering((on) => !on) },
          { title: "Change many points at once", run: () => setBulk((on) => !on) },
          { title: "Ask the device at the edges of this map", run: () => void askEdges() },
          ...(looked
            ? [
                {
                  title: "Look into the folders of this device",
                  run: () => void navigate({ to: "/points/browse/$device", params: { device: params.device ?? "" } }),
                },
                {
                  title: "Prove a column of names at this device",
                  run: () => void navigate({ to: "/points/names/$device", params: { device: params.device ?? "" } }),
                },
              ]
            : []),
          { title: "Look into a file that describes devices", run: () => void navigate({ to: "/points/files" }) },
          { title: "Datasheets and structures", run: () => void navigate({ to: "/points/datasheets" }) },
          ...[
            ["xlsx", "a workbook"],
            ["csv", "CSV"],
            ["pdf", "a map sheet, PDF"],
          ].map(([format, title]) => ({
            title: `Hand out this map as ${title}`,
            run: () => {
              location.href = path(`map.${format}`);
            },
          })),
          ...(handsOut
            ? [
                {
                  title: `Hand out this map as one of the ${handsOut}`,
                  run: () => {
                    location.href = `/api/devices/${id}/description`;
                  },
                },
              ]
            : []),
          ...(handsBeside
            ? [
                {
                  title: `Hand out the ${handsBeside} beside it`,
                  run: () => {
                    location.href = `/api/devices/${id}/description?part=beside`;
                  },
                },
              ]
            : []),
        ],
  );
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const answering = [
    ...site.devices.filter((d) => d.pointCount > 0 || d.ports.some((p) => p.protocol)),
    ...site.devices.filter((d) => d.pointCount === 0 && !d.ports.some((p) => p.protocol)),
  ];
  if (!device) {
    return (
      <div className="flex-1">
        <Empty title={params.device ? "This device is no longer in the site" : "No map yet"}>
          {answering.length ? "Choose a device:" : "Points belong to devices that answer. Add one under Lines first."}
          <div className="mt-3 flex flex-wrap justify-center gap-2">
            {answering.map((d) => (
              <Link key={d.id} className="button" to="/points/$device" params={{ device: d.id }}>
                {d.name}
              </Link>
            ))}
          </div>
        </Empty>
      </div>
    );
  }
  const chosen = points?.rows.find((r) => r.id === params.point);
  const read = new Set(points?.requests.map((r) => r.id)).size;
  const gaps = new Set(points?.requests.filter((r) => r.unused > 0).map((r) => r.id)).size;
  const units = points?.areas[0]?.unitBits === 8 ? "bytes" : "registers";
  const overlaps = points?.findings.filter((f) => f.code === "overlap").length ?? 0;
  const takeFile = async (list: FileList | null) => {
    const files = [...(list ?? [])];
    if (files.length > 1)
      setIntake({
        text: (await Promise.all(files.map(textOf))).join("\n"),
        name: files.map((f) => f.name).join(" and "),
      });
    else if (files[0]) setIntake({ file: await base64(files[0]), name: files[0].name });
    if (file.current) file.current.value = "";
  };
  const refused = live.findings.some(
    (f) =>
      f.offers === "edges" &&
      (f.subject.device === device.id || f.subject.id === link?.id || f.subject.id === device.id),
  );
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <section className="flex-none border-b border-rule bg-sheet px-4 pt-2 pb-1">
        <div className="flex items-center gap-3">
          <select
            aria-label="Device"
            className="input !w-auto max-w-[340px] text-[16px] font-bold"
            value={device.id}
            onChange={(e) => void navigate({ to: "/points/$device", params: { device: e.target.value } })}
          >
            {answering.map((d) => (
              <option key={d.id} value={d.id} title={d.name}>
                {shortened(d.name, 36)}
              </option>
            ))}
          </select>
          {device.maps.length > 1 && (
            <select
              aria-label="Map"
              className="input !w-auto"
              value={points?.map ?? ""}
              onChange={(e) =>
                void navigate({
                  to: "/points/$device",
                  params: { device: device.id },
                  search: { map: e.target.value } as never,
                })
              }
            >
              {device.maps.map((name) => (
                <option key={name} value={name}>
                  {site.protocols.find((p) => p.name === name)?.title ?? name}
                </option>
              ))}
            </select>
          )}
          <span className="small soft truncate">
            {count(points?.rows.length ?? 0, "point")}
            {read || points?.areas.length ? ` · ${count(read, "request")} a round` : ""}
          </span>
          <span className="ml-auto flex items-center gap-2">
            {refused && (
              <button
                type="button"
                className="button tight danger"
                title="The device refuses addresses of this map"
                onClick={() => void askEdges()}
              >
                Addresses are refused: off by one?
              </button>
            )}
            {overlaps > 0 && <span className="chip fault">{count(overlaps, "overlap")}</span>}
            {gaps > 0 && (
              <span className="chip note">
                {gaps === 1 ? `1 request reads over unused ${units}` : `${gaps} requests read over unused ${units}`}
              </span>
            )}
            <Link to="/points/files" className="button tight">
              Files
            </Link>
            <Link to="/points/datasheets" className="button tight">
              Datasheets
            </Link>
          </span>
        </div>
        {points && points.areas.length > 0 && (
          <Ribbon key={device.id} points={points} chosen={params.point} onChoose={open} />
        )}
      </section>
      {bulk && points && (
        <Bulk points={points} selected={selection.ids} columns={selection.columns} onClose={() => setBulk(false)} />
      )}
      <div className="flex min-h-0 flex-1">
        <div className="flex min-w-0 flex-1 flex-col">
          {points && (
            <div className={points.rows.length ? "flex min-h-0 flex-1 flex-col" : "flex h-[76px] flex-none flex-col"}>
              <Grid
                key={device.id}
                points={points}
                columns={columns.shown}
                filtering={filtering}
                chosen={params.point}
                onChoose={open}
                onTable={takeTable}
                onSelect={select}
              />
            </div>
          )}
          {points?.rows.length === 0 && (
            <div className="min-h-0 flex-1">
              <Empty title="The map is empty">
                Paste the rows of a spreadsheet, bring in a file, place a datasheet, or type the first point into the
                row above.
              </Empty>
            </div>
          )}
          <div className="flex flex-none flex-wrap items-center gap-2 border-t border-rule bg-sheet p-2">
            <button
              type="button"
              className={"button " + (points?.rows.length ? "" : "main")}
              onClick={() => setIntake({})}
            >
              Paste rows
            </button>
            <button type="button" className="button" onClick={() => file.current?.click()}>
              Bring in a file…
            </button>
            <Menu title="Hand out">
              {[
                ["csv", "CSV"],
                ["xlsx", "Workbook, XLSX"],
                ["json", "JSON"],
                ["xml", "IEC 61131-10 XML"],
                ["pdf", "Map sheet, PDF"],
              ].map(([format, title]) => (
                <DropdownMenu.Item key={format} asChild>
                  <a className="menu-item" href={path(`map.${format}`)} download>
                    {title}
                  </a>
                </DropdownMenu.Item>
              ))}
              {points?.notations.slice(1).map((n) => (
                <DropdownMenu.Item key={n.notation} asChild>
                  <a
                    className="menu-item"
                    href={path("map.csv", `&notation=${encodeURIComponent(n.notation)}`)}
                    download
                  >
                    CSV, addresses as <span className="mono">{n.text}</span>
                  </a>
                </DropdownMenu.Item>
              ))}
              <DropdownMenu.Item asChild>
                <a className="menu-item" href={path("map.html")} target="_blank" rel="noreferrer">
                  Map sheet to print
                </a>
              </DropdownMenu.Item>
              {handsOut && (
                <DropdownMenu.Item asChild>
                  <a className="menu-item" href={`/api/devices/${id}/description`} download>
                    One of the {handsOut}
                  </a>
                </DropdownMenu.Item>
              )}
              {handsBeside && (
                <DropdownMenu.Item asChild>
                  <a className="menu-item" href={`/api/devices/${id}/description?part=beside`} download>
                    The {handsBeside} beside it
                  </a>
                </DropdownMenu.Item>
              )}
              <DropdownMenu.Separator className="my-1 border-t border-rule" />
              <DropdownMenu.Item asChild>
                <a className="menu-item" href="/api/file/maps.xlsx" download>
                  Every map of the site, XLSX
                </a>
              </DropdownMenu.Item>
              <DropdownMenu.Item asChild>
                <a className="menu-item" href="/api/file/maps.csv" download>
                  Every map of the site, CSV
                </a>
              </DropdownMenu.Item>
              <DropdownMenu.Item asChild>
                <a className="menu-item" href="/api/file/maps.pdf" download>
                  Every map of the site, PDF
                </a>
              </DropdownMenu.Item>
            </Menu>
            <button
              type="button"
              className="button"
              aria-pressed={filtering}
              style={filtering ? { background: "var(--tide-wash)" } : undefined}
              onClick={() => setFiltering(!filtering)}
            >
              Filter
            </button>
            <Menu title="Columns">
              {points?.columns
                .filter((c) => c !== "name")
                .map((c) => (
                  <Ticked
                    key={c}
                    title={titles[c] ?? c}
                    on={columns.shown.includes(c)}
                    onToggle={() => columns.toggle(c)}
                  />
                ))}
            </Menu>
            <button
              type="button"
              className="button"
              aria-pressed={bulk}
              style={bulk ? { background: "var(--tide-wash)" } : undefined}
              onClick={() => setBulk(!bulk)}
            >
              Many at once
            </button>
            {looked && (
              <>
                <Link className="button" to="/points/browse/$device" params={{ device: id }}>
                  What it has
                </Link>
                <Link className="button" to="/points/names/$device" params={{ device: id }}>
                  Prove names
                </Link>
              </>
            )}
            <Menu title="More">
              <DropdownMenu.Item
                className="menu-item"
                disabled={!link || !points?.rows.length}
                onSelect={() => void askEdges()}
              >
                Ask the device at the edges of the map
              </DropdownMenu.Item>
              {points && <NamesFor site={site} device={device} rules={points.nameRules} />}
              <Addressing site={site} device={device} />
            </Menu>
            <input
              ref={file}
              type="file"
              accept={points?.described ? undefined : ".csv,.tsv,.txt,.st,.xlsx,.xlsm,.json,.xml,text/csv"}
              multiple={!!handsBeside}
              className="hidden"
              aria-label="File with points"
              onChange={(e) => void takeFile(e.target.files)}
            />
          </div>
        </div>
        {chosen && points && <Inspector key={chosen.id} id={chosen.id} points={points} />}
      </div>
      {intake !== undefined && points && (
        <Intake points={points} name={device.name} source={intake} onClose={() => setIntake(undefined)} />
      )}
      <Dialog open={!!edges} onClose={() => setEdges(undefined)} title={`The edges of ${device.name}`}>
        {edges && points && (
          <>
            {edges.findings.length === 0 && (
              <p className="mb-2">
                {edges.edges.some((e) => !e.answered)
                  ? "Nothing says that the map as a whole lies one off."
                  : "The device answers at every edge of the map and just outside it."}
              </p>
            )}
            {edges.findings.map((f) => (
              <MapFinding key={f.subject.id} points={points} finding={f} />
            ))}
            {edges.findings.length === 0 && (
              <table className="rows mt-2">
                <tbody>
                  {edges.edges.map((e) => (
                    <tr key={e.area + e.offset}>
                      <td className="mono">{e.address}</td>
                      <td>{e.answered ? "answers" : "is refused"}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
            <div className="mt-3 flex justify-end">
              <button type="button" className="button" onClick={() => setEdges(undefined)}>
                Close
              </button>
            </div>
          </>
        )}
      </Dialog>
    </div>
  );
}

function Menu({ title, children }: { title: string; children: ReactNode }) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <button type="button" className="button">
          {title} <ChevronDown size={14} aria-hidden />
        </button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content className="menu max-h-[60vh] overflow-auto" sideOffset={6} align="start">
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** Which far sides the names of a device must suit. */
function NamesFor({ site, device, rules }: { site: SiteView; device: DeviceView; rules: NameRule[] }) {
  const client = useQueryClient();
  const editor = useDeviceEditor(site, device);
  const has = device.namesFor ?? [];
  const toggle = (key: string) =>
    attempt(async () => {
      editor.begin();
      await editor.commit(`names of ${device.name} for other far sides`, {
        namesFor: has.includes(key) ? has.filter((k) => k !== key) : [...has, key],
      });
      await client.invalidateQueries({ queryKey: ["points", device.id] });
    });
  return (
    <>
      <DropdownMenu.Label className="small soft px-3 pt-2">Names must suit</DropdownMenu.Label>
      {rules.map((r) => (
        <Ticked key={r.key} title={r.title} on={has.includes(r.key)} onToggle={() => void toggle(r.key)} />
      ))}
    </>
  );
}

/** In which addresses a map is written, as long as it has no points. */
function Addressing({ site, device }: { site: SiteView; device: DeviceView }) {
  const client = useQueryClient();
  const editor = useDeviceEditor(site, device);
  if (device.pointCount > 0) return null;
  const set = (map: string) =>
    attempt(async () => {
      editor.begin();
      await editor.commit(`addresses of the map of ${device.name}`, { map });
      await client.invalidateQueries({ queryKey: ["points", device.id] });
    });
  return (
    <>
      <DropdownMenu.Label className="small soft px-3 pt-2">Addresses of this map</DropdownMenu.Label>
      {site.protocols.map((p) => (
        <Ticked key={p.name} title={p.title} on={mapProtocol(site, device) === p} onToggle={() => void set(p.name)} />
      ))}
    </>
  );
}

/** An item of a menu that is on or off. The menu stays open. */
function Ticked({ title, on, onToggle }: { title: string; on: boolean; onToggle: () => void }) {
  return (
    <DropdownMenu.CheckboxItem
      className="menu-item"
      checked={on}
      onCheckedChange={onToggle}
      onSelect={(e) => e.preventDefault()}
    >
      <span className="w-4">{on ? "✓" : ""}</span>
      {title}
    </DropdownMenu.CheckboxItem>
  );
}

/** The content of a file as JSON can carry it. */
/** The text of a file, in the sets of characters that Ferry reads. */
async function textOf(file: File): Promise<string> {
  const bytes = new Uint8Array(await file.arrayBuffer());
  const mark = `${bytes[0]} ${bytes[1]}`;
  const set = mark === "255 254" ? "utf-16le" : mark === "254 255" ? "utf-16be" : "utf-8";
  try {
    return new TextDecoder(set, { fatal: true }).decode(bytes);
  } catch {
    return new TextDecoder("windows-1252").decode(bytes);
  }
}

function base64(file: File): Promise<string> {
  return new Promise((resolve, reject) => {
    const reader = new FileReader();
    reader.addEventListener("load", () => resolve(String(reader.result).replace(/^[^,]*,/, "")));
    reader.addEventListener("error", () => reject(reader.error ?? new Error("the file could not be read")));
    reader.readAsDataURL(file);
  });
}
