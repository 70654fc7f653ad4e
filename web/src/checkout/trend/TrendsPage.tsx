import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { get, post, problemOf, useSite } from "../../api/client";
import type { Problem, ProvingView, SiteView, StripView as Listed } from "../../api/types.gen";
import { number } from "../../shared/numbers";
import { PointPick } from "../../shared/PointPick";
import { usePointName } from "../../shared/usePointName";
import { attempt } from "../../shared/toast";
import { Empty, ProblemNotice } from "../../shared/ui";
import { StripView } from "./StripView";

/** Trends: every value that some points get, without a gap, for hours; and what can be read from them. */
export function TrendsPage() {
  const { id } = useParams({ strict: false }) as { id?: string };
  const { data: site } = useSite();
  const { data: list } = useQuery({
    queryKey: ["trends"],
    queryFn: () => get<Listed[]>("/api/trends"),
    refetchInterval: 2000,
  });
  if (!list || !site) return <p className="soft p-8">Reading the trends…</p>;
  const chosen = list.find((s) => String(s.id) === id);
  return (
    <>
      <aside
        className="flex w-[300px] flex-none flex-col overflow-y-auto border-r border-[var(--rule)] p-3 max-[1100px]:w-[240px]"
        aria-label="Trends"
      >
        <Link to="/checkout" className="small underline">
          Checkout
        </Link>
        <h2 className="mt-2 mb-1">Trends</h2>
        <Begin site={site} />
        <nav className="mt-3" aria-label="Recorded">
          {list.map((s) => (
            <Link
              key={s.id}
              to="/checkout/trends/$id"
              params={{ id: String(s.id) }}
              className="block rounded px-2 py-1"
              style={s.id === chosen?.id ? { background: "var(--tide-wash)" } : undefined}
            >
              <b className="block break-words">{s.name}</b>
              <span className="small soft">
                {s.pens.length} {s.pens.length === 1 ? "point" : "points"} · {s.mode} ·{" "}
                {new Date(s.fromUs / 1000).toLocaleString("en-GB", { dateStyle: "short", timeStyle: "short" })} ·{" "}
                {s.toUs === 0 ? <b>being recorded</b> : s.who}
              </span>
            </Link>
          ))}
        </nav>
      </aside>
      <div className="min-w-0 flex-1 overflow-y-auto p-4">
        {chosen ? (
          <StripView key={chosen.id} strip={chosen} />
        ) : (
          <Empty title={list.length ? "Choose a trend" : "No trend yet"}>
            A trend is every value that some points get, at their own pace, for as long as you say. It shows whether a
            value moves as the plant does or as it is read, and how long it takes from here to the far shore.
          </Empty>
        )}
      </div>
    </>
  );
}

/** What is to be recorded: points one by one, all of a device, and where they are carried to. */
function Begin({ site }: { site: SiteView }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [points, setPoints] = useState<string[]>([]);
  const [hours, setHours] = useState("8");
  const [problem, setProblem] = useState<Problem>();
  const add = (ids: string[]) => setPoints((was) => [...was, ...ids.filter((id) => !was.includes(id))]);
  const whole = (device: string) =>
    attempt(async () => {
      const { points: all } = await get<ProvingView>(`/api/checkout/devices/${device}`);
      add(all.filter((p) => !p.type.startsWith("string") && p.type !== "text").map((p) => p.point));
    });
  const far = farOf(site, points);
  const begin = async () => {
    setProblem(undefined);
    try {
      const made = await post<Listed>("/api/trends", { name, points, hours: number(hours) });
      await client.invalidateQueries({ queryKey: ["trends"] });
      setName("");
      setPoints([]);
      await navigate({ to: "/checkout/trends/$id", params: { id: String(made.id) } });
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <form
      aria-label="Record a trend"
      onSubmit={(e) => {
        e.preventDefault();
        void begin();
      }}
    >
      <input
        className="input"
        aria-label="Name of the trend"
        placeholder="tank 3 over night"
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <PointPick
        label="Point"
        name=""
        none="add a point…"
        onPick={(id) => {
          if (id) add([id]);
          return Promise.resolve();
        }}
      />
      <select
        className="input"
        aria-label="All points of a device"
        value=""
        onChange={(e) => void whole(e.target.value)}
      >
        <option value="">all points of a device…</option>
        {site.devices
          .filter((d) => d.pointCount > 0)
          .map((d) => (
            <option key={d.id} value={d.id}>
              {d.name}
            </option>
          ))}
      </select>
      {far.length > 0 && (
        <button type="button" className="button mt-1" onClick={() => add(far)}>
          Add {far.length === 1 ? "the far shore" : `${far.length} far shores`}
        </button>
      )}
      {points.length > 0 && (
        <ul className="mt-1 max-h-[220px] overflow-y-auto" aria-label="To be recorded">
          {points.map((id) => (
            <Chosen key={id} site={site} id={id} onDrop={() => setPoints(points.filter((p) => p !== id))} />
          ))}
        </ul>
      )}
      <label className="small soft mt-1 flex items-center gap-2">
        for
        <input
          className="input num !w-[64px]"
          aria-label="Hours"
          inputMode="decimal"
          value={hours}
          onChange={(e) => setHours(e.target.value)}
        />
        hours at most
      </label>
      <button type="submit" className="button main mt-2" disabled={points.length === 0}>
        Record {points.length > 0 ? `${points.length} ${points.length === 1 ? "point" : "points"}` : ""}
      </button>
      {problem && <ProblemNotice problem={problem} />}
    </form>
  );
}

/** The other shores of points, where these are not chosen already. */
function farOf(site: SiteView, points: string[]): string[] {
  const far = new Set<string>();
  for (const { from, to } of site.crossings) {
    if (!from) continue;
    if (points.includes(from) && !points.includes(to)) far.add(to);
    if (points.includes(to) && !points.includes(from)) far.add(from);
  }
  return [...far];
}

function Chosen({ site, id, onDrop }: { site: SiteView; id: string; onDrop: () => void }) {
  const name = usePointName(site, id);
  return (
    <li className="flex items-start gap-1">
      <span className="small min-w-0 flex-1 break-words">{name}</span>
      <button type="button" className="button tight" aria-label={`Leave ${name} out`} onClick={onDrop}>
        ×
      </button>
    </li>
  );
}
