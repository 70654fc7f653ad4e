import { useQuery } from "@tanstack/react-query";
import { useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";
import { get, useSite } from "../api/client";
import { useLivePart } from "../api/live";
import type { CheckoutView, ProvingView, SiteView, StopView } from "../api/types.gen";
import { Empty } from "../shared/ui";
import { Proving } from "./Proving";
import { Ramp } from "./Ramp";
import { Readings } from "./Readings";
import { done, sum, Walk } from "./Walk";

/** The walk past all points: each is seen right at both ends by somebody, and what is left gets less. */
export function CheckoutPage() {
  const params = useParams({ strict: false }) as { device?: string; point?: string };
  const navigate = useNavigate();
  const { data: site } = useSite();
  const [scope, setScope] = useState("");
  const [leftOnly, setLeftOnly] = useState(false);
  const proved = useLivePart((l) => l.proved);
  const mode = useLivePart((l) => l.state.mode);
  const { data: walk } = useQuery({
    queryKey: ["checkout", "walk", proved, mode],
    queryFn: () => get<CheckoutView>("/api/checkout"),
    placeholderData: (old) => old,
  });
  const stops = walk ? within(walk.stops, scope) : [];
  const device = params.device ?? stops.find((s) => !done(s.counts))?.device ?? stops[0]?.device;
  const { data: proving } = useQuery({
    queryKey: ["checkout", "device", device, proved, mode],
    queryFn: () => get<ProvingView>(`/api/checkout/devices/${device}`),
    enabled: !!device,
    placeholderData: (old, query) => (query?.queryKey[2] === device ? old : undefined),
  });
  if (!walk || !site) return <p className="soft p-8">Reading what has been proved…</p>;
  if (walk.stops.length === 0)
    return (
      <Empty title="There is nothing to prove yet">
        Every point of the maps is proved here: what Ferry reads beside what the device itself shows. Begin with a line,
        a device and its map.
      </Empty>
    );
  const points = proving?.points ?? [];
  const own = points.length > 0 && stops.find((s) => s.device === device);
  const point = own ? (points.find((p) => p.point === params.point) ?? firstLeft(proving) ?? points[0]) : undefined;
  const open = (to: string, at?: string) =>
    void navigate(
      at
        ? { to: "/checkout/$device/$point", params: { device: to, point: at }, replace: true }
        : { to: "/checkout/$device", params: { device: to }, replace: true },
    );
  /** Goes to another point: by so many steps, or to the next one that is left, over the ends of devices. */
  const go = (step: -1 | 1 | "left") => {
    const at = points.findIndex((p) => p.point === point?.point);
    const stop = stops.findIndex((s) => s.device === device);
    if (step === "left") {
      const next = [...points.slice(at + 1), ...points.slice(0, at)].find((p) => isLeft(p.state));
      if (next && device) return open(device, next.point);
      const on = [...stops.slice(stop + 1), ...stops.slice(0, stop)].find((s) => !done(s.counts));
      if (on) return open(on.device);
      return;
    }
    const next = points[at + step];
    if (next && device) return open(device, next.point);
    const on = stops[stop + step];
    if (on) open(on.device);
  };
  return (
    <>
      <Walk
        site={site}
        all={walk.stops}
        stops={stops}
        scope={scope}
        onScope={setScope}
        rehearsed={mode === "bench"}
        leftOnly={leftOnly}
        onLeftOnly={setLeftOnly}
        device={device}
        points={points}
        point={point?.point}
        onOpen={open}
      />
      <div className="min-w-0 flex-1 overflow-y-auto p-6 max-[1000px]:p-3">
        {point && device ? (
          <>
            <Proving
              key={point.point}
              site={site}
              device={device}
              point={point}
              points={points}
              next={points[points.indexOf(point) + 1]?.name}
              left={left(stops)}
              all={sum(stops).all}
              onGo={go}
            />
            <div key={device}>
              <Readings site={site} device={device} />
              <Ramp site={site} device={device} points={points} />
            </div>
          </>
        ) : (
          <p className="soft">
            {params.device && !walk.stops.some((stop) => stop.device === params.device)
              ? "There is no such device with points to prove. Choose one on the left."
              : "…"}
          </p>
        )}
      </div>
    </>
  );
}

const isLeft = (state: string) => state === "left" || state === "again";
const firstLeft = (view: ProvingView | undefined) => view?.points.find((p) => isLeft(p.state));
const left = (stops: StopView[]) => stops.reduce((n, s) => n + s.counts.left + s.counts.again, 0);

/** The devices of a scope: the whole site, a cabinet, or a line. */
function within(stops: StopView[], scope: string): StopView[] {
  const [kind, id] = [scope.slice(0, 1), scope.slice(1)];
  if (kind === "c") return stops.filter((s) => s.cabinet === id);
  if (kind === "l") return stops.filter((s) => s.line === id);
  return stops;
}

export function lineName(site: SiteView, id: string): string {
  return site.lines.find((l) => l.id === id)?.name ?? "";
}
