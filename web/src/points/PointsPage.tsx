import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useRef, useState } from "react";
import { usePoints, useSite } from "../api/client";
import { count } from "../Shell";
import { Empty } from "../shared/ui";
import { Grid } from "./Grid";
import { Inspector } from "./Inspector";
import { Intake } from "./Intake";
import { Ribbon } from "./Ribbon";

/** The map of one device: the ribbon to scale, the grid, and the inspector. */
export function PointsPage() {
  const params = useParams({ strict: false });
  const navigate = useNavigate();
  const { data: site } = useSite();
  const device = site?.devices.find((d) => d.id === params.device) ?? (params.device ? undefined : site?.devices.find((d) => d.pointCount > 0));
  const { data: points } = usePoints(device?.id);
  const [intake, setIntake] = useState<string>();
  const file = useRef<HTMLInputElement>(null);
  if (!site) return <p className="soft p-8">Reading the site…</p>;
  const answering = site.devices.filter((d) => d.pointCount > 0 || d.ports.some((p) => p.protocol));
  if (!device) {
    return <div className="flex-1"><Empty title={params.device ? "This device is no longer in the site" : "No map yet"}>{answering.length ? "Choose a device:" : "Points belong to devices that answer. Add one under Lines first."}
      <div className="mt-3 flex flex-wrap justify-center gap-2">{answering.map((d) => <Link key={d.id} className="button" to="/points/$device" params={{ device: d.id }}>{d.name}</Link>)}</div></Empty></div>;
  }
  const chosen = points?.rows.find((r) => r.id === params.point);
  const read = points?.requests.length ?? 0;
  const gaps = points?.requests.filter((r) => r.unused > 0).length ?? 0;
  const overlaps = points?.findings.filter((f) => f.code === "overlap").length ?? 0;
  const open = (point: string) => void navigate({ to: "/points/$device/$point", params: { device: device.id, point }, replace: true });
  const takeFile = async (list: FileList | null) => {
    const chosenFile = list?.[0];
    if (chosenFile) setIntake(await chosenFile.text());
    if (file.current) file.current.value = "";
  };
  return (
    <div className="flex min-w-0 flex-1 flex-col">
      <section className="flex-none border-b border-rule bg-sheet px-4 pt-2 pb-1">
        <div className="flex items-center gap-3">
          <select aria-label="Device" className="input !w-auto max-w-[340px] text-[16px] font-bold" value={device.id} onChange={(e) => void navigate({ to: "/points/$device", params: { device: e.target.value } })}>
            {answering.map((d) => <option key={d.id} value={d.id}>{d.name}</option>)}
          </select>
          <span className="small soft truncate">{count(points?.rows.length ?? 0, "point")} · {count(read, "request")} a round</span>
          <span className="ml-auto flex gap-2">
            {overlaps > 0 && <span className="chip fault">{count(overlaps, "overlap")}</span>}
            {gaps > 0 && <span className="chip note">{gaps === 1 ? "1 request reads over unused registers" : `${gaps} requests read over unused registers`}</span>}
          </span>
        </div>
        {points && <Ribbon points={points} chosen={params.point} onChoose={open} />}
      </section>
      <div className="flex min-h-0 flex-1">
        <div className="flex min-w-0 flex-1 flex-col">
          {points && (points.rows.length > 0 ? <Grid key={device.id} points={points} chosen={params.point} onChoose={open} onTable={setIntake} />
            : <Empty title="The map is empty">Paste the rows of a spreadsheet, bring in a CSV file, or add the first point by hand.</Empty>)}
          <div className="flex flex-none items-center gap-2 border-t border-rule bg-sheet p-2">
            <button type="button" className={"button " + (points?.rows.length ? "" : "main")} onClick={() => setIntake("")}>Paste rows</button>
            <button type="button" className="button" onClick={() => file.current?.click()}>Bring in a CSV…</button>
            <a className="button" href={`/api/devices/${device.id}/map.csv`} download>Hand out CSV</a>
            <span className="small soft truncate">Enter edits · Ctrl V pastes from a spreadsheet · Ctrl Z takes back · ? all keys</span>
            <input ref={file} type="file" accept=".csv,.tsv,.txt,text/csv" className="hidden" aria-label="CSV file" onChange={(e) => void takeFile(e.target.files)} />
          </div>
        </div>
        {chosen && <Inspector key={chosen.id} id={chosen.id} />}
      </div>
      {intake !== undefined && <Intake device={device.id} name={device.name} text={intake} onClose={() => setIntake(undefined)} />}
    </div>
  );
}
