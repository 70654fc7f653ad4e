import type { Design, Forecast, Growth } from "../api/types.gen";
import { LongName } from "../shared/LongName";
import { count } from "../shared/numbers";
import { Mark } from "../shared/Mark";

const age = (ms: number) => (ms < 10_000 ? `${(ms / 1000).toFixed(2)}\u2009s` : `${(ms / 1000).toFixed(1)}\u2009s`);

/** What a gateway would be: how old its values get with each meter, and what each of them becomes. */
export function ForecastView({ design, forecast, stale }: { design: Design; forecast: Forecast; stale: boolean }) {
  const now = forecast.steps[design.meters.length - 1];
  const late = !!now && now.meters > forecast.good;
  return (
    <div style={stale ? { opacity: 0.55 } : undefined} aria-busy={stale}>
      {now && (
        <section className="card mb-3 p-3" aria-label="How old values get">
          <div className="flex flex-wrap items-baseline gap-x-6 gap-y-1">
            <Figure title="Oldest value here" value={age(now.oldestMs)} />
            <Figure title={`Oldest at ${design.reader.name || "who reads"}`} value={age(now.readMs)} />
            <Figure
              title="Everything is read"
              value={forecast.paceMs ? `every ${age(forecast.paceMs)}` : "as the lists say"}
            />
            <Figure title="Line time used" value={`${(100 * now.utilisation).toFixed(0)}%`} />
          </div>
          <Chart steps={forecast.steps} now={now.meters} good={forecast.good} />
          <p className="mt-2 flex items-center gap-2">
            <Mark kind={late ? "fault" : "good"} size={15} />
            <span>
              {forecast.due} {forecast.fast}
            </span>
          </p>
        </section>
      )}
      <table className="w-full" aria-label="What each value becomes">
        <thead>
          <tr className="small soft text-left">
            <th className="font-normal">Value of the meter</th>
            <th className="font-normal">Address there</th>
            <th className="font-normal">Becomes</th>
            <th className="font-normal">Named</th>
            <th className="font-normal">Told from</th>
            <th className="text-right font-normal">Oldest</th>
          </tr>
        </thead>
        <tbody>
          {forecast.built.objects.map((o) => (
            <tr key={o.object} className="border-t border-rule align-baseline">
              <td className="max-w-[170px] pr-2" aria-label={`${design.meters[o.meter]?.name ?? ""} ${o.source}`}>
                <span className="flex min-w-0 gap-1" title={`${design.meters[o.meter]?.name ?? ""} ${o.source}`}>
                  <span className="soft min-w-[40px] truncate">{design.meters[o.meter]?.name}</span>
                  <span className="max-w-[110px] flex-none truncate">{o.source}</span>
                </span>
              </td>
              <td className="mono small pr-2 whitespace-nowrap">{o.at}</td>
              <td className="mono small pr-2 whitespace-nowrap">{o.address}</td>
              <td className="max-w-[170px] pr-2">
                <LongName name={o.name} />
                {o.lost && <span className="small soft">{o.lost}</span>}
              </td>
              <td className="mono small pr-2 whitespace-nowrap">
                {o.band ? `± ${Number(o.band.toPrecision(3))}` : "any change"} {o.unit}
              </td>
              <td className="mono text-right whitespace-nowrap">{o.oldestMs ? age(o.oldestMs) : "?"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="small soft mt-2">{count(forecast.built.objects.length, "object")} in all.</p>
    </div>
  );
}

function Figure({ title, value }: { title: string; value: string }) {
  return (
    <span className="min-w-0">
      <span className="small soft block">{title}</span>
      <b className="mono text-[17px]">{value}</b>
    </span>
  );
}

/** How old the oldest value gets with one meter, two, and so on. */
function Chart({ steps, now, good }: { steps: Growth[]; now: number; good: number }) {
  const most = Math.max(1, ...steps.map((s) => (s.holds ? s.oldestMs : 0)));
  const height = 96;
  const [first, last] = [steps[0]?.meters ?? 1, steps.at(-1)?.meters ?? 1];
  return (
    <div className="mt-3" role="img" aria-label={`The oldest value with ${first} to ${last} meters`}>
      <div className="flex items-end gap-[2px]" style={{ height }}>
        {steps.map((s) => {
          const bad = s.meters > good;
          return (
            <span
              key={s.meters}
              data-meters={s.meters}
              className="min-w-0 flex-1"
              title={`${count(s.meters, "meter")}: ${s.holds ? age(s.oldestMs) : "the paces do not hold"}${s.assumed ? ", with others of the last model" : ""}`}
              style={{
                height: s.holds ? Math.max(3, (height * s.oldestMs) / most) : height,
                background: bad ? "var(--fault)" : s.assumed ? "var(--tide-soft)" : "var(--tide)",
                opacity: bad && s.assumed ? 0.45 : 1,
                outline: s.meters === now ? "2px solid var(--ink)" : undefined,
              }}
            />
          );
        })}
      </div>
      <div className="small soft mono mt-1 flex justify-between">
        <span>{count(first, "meter")}</span>
        <span>{age(most)} at most</span>
        <span>{count(last, "meter")}</span>
      </div>
    </div>
  );
}
