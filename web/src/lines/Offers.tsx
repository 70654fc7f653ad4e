import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post } from "../api/client";
import type { EndCertificate, LinkView, NotedView, OffersView, StrangersView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { attempt, say } from "../shared/toast";

const dayOf = (ms: number) => new Date(ms).toLocaleDateString();

/** In which ways the answering end lets somebody in, whom it says it is, and what it needs to know of this end. */
export function Offers({
  link,
  what,
  file,
  onUse,
}: {
  link: LinkView;
  what: string;
  file: string; // in which the certificate of this end lies
  onUse: (settings: NonNullable<LinkView["settings"]>) => Promise<unknown>;
}) {
  const [view, setView] = useState<OffersView>();
  const [asking, setAsking] = useState(false);
  const ask = () =>
    attempt(async () => {
      setAsking(true);
      try {
        setView(await post<OffersView>(`/api/links/${link.id}/offers`));
      } finally {
        setAsking(false);
      }
    });
  const make = () =>
    attempt(async () => {
      say((await post<NotedView>(`/api/links/${link.id}/certificate`)).said);
      await ask();
    });
  const trust = (fingerprint: string) =>
    attempt(async () => {
      setView(await post<OffersView>(`/api/links/${link.id}/trust`, { fingerprint }));
      say("Trusted. The server has to trust the certificate of this end, too.");
    });
  const use = (o: OffersView["offers"][number]) =>
    attempt(async () => {
      await onUse({ ...link.settings, ...o.settings });
      setView((old) => old && { ...old, offers: old.offers.map((x) => ({ ...x, set: x === o })) });
    });
  return (
    <section className="mt-4" aria-label="Ways in">
      <h3 className="mb-1">Ways in</h3>
      <button type="button" className="button" disabled={asking} onClick={() => void ask()}>
        {asking ? "Asking…" : `Ask for its ${what}`}
      </button>
      {view?.clock && (
        <p className={"small mt-2 " + (Math.abs(view.aheadMs) > 60_000 ? "font-semibold text-fault" : "soft")}>
          {Math.abs(view.aheadMs) < 1000
            ? "Its clock and that of this machine agree."
            : `Its clock is ${apart(view.aheadMs)} that of this machine${
                Math.abs(view.aheadMs) > 60_000 ? ": certificates may seem not to count yet, or no longer" : ""
              }.`}
        </p>
      )}
      {view && (
        <ul className="mt-2" aria-label="What it offers">
          {view.offers.length === 0 && <li className="soft">It offers nothing that could be understood.</li>}
          {view.offers.map((o) => (
            <li key={o.title + o.at} className="border-b border-rule py-2" data-offer={o.title}>
              <div className="flex items-start gap-2">
                <span className="flex-1">
                  <span className="font-semibold">{o.title}</span>
                  <span className="mono small soft block break-all">{o.at}</span>
                </span>
                {o.set ? (
                  <Mark kind="good" size={15} label="the link is set so" />
                ) : (
                  !o.cannot && (
                    <button type="button" className="button tight" onClick={() => void use(o)}>
                      Use it
                    </button>
                  )
                )}
              </div>
              <p className="small soft">Comes in: {o.users.join(", ") || "nobody"}.</p>
              {o.needs.length > 0 && <p className="small soft">Needs {o.needs.join(", and ")}.</p>}
              {o.cannot && <p className="small text-fault">{o.cannot}.</p>}
              {o.notes.map((n) => (
                <p key={n} className="small">
                  {n}.
                </p>
              ))}
            </li>
          ))}
        </ul>
      )}
      {view && view.shown.length > 0 && (
        <>
          <h4 className="mt-3 mb-1 font-semibold">Who it says it is</h4>
          {view.shown.map((c) => (
            <div key={c.fingerprint} data-shown={c.why ? "not trusted" : "trusted"}>
              <Shown certificate={c} />
              {c.why ? (
                <>
                  <p className="small text-fault">Not trusted yet. Compare the fingerprint at the server itself.</p>
                  <button type="button" className="button mt-1" onClick={() => void trust(c.fingerprint)}>
                    It is the same: trust it
                  </button>
                </>
              ) : (
                <p className="small flex items-center gap-2">
                  <Mark kind="good" size={14} /> This end trusts it.
                </p>
              )}
            </div>
          ))}
        </>
      )}
      {view && (
        <>
          <h4 className="mt-3 mb-1 font-semibold">Who this end says it is</h4>
          <Own own={view.own} file={file} far="the server" onMake={() => void make()} />
        </>
      )}
    </section>
  );
}

/** How far two clocks are apart, in words. */
function apart(ms: number): string {
  const s = Math.abs(ms) / 1000;
  const much = s < 120 ? `${s.toFixed(1)} s` : s < 7200 ? `${Math.round(s / 60)} min` : `${(s / 3600).toFixed(1)} h`;
  return `${much} ${ms > 0 ? "ahead of" : "behind"}`;
}

/** What a certificate says. */
function Shown({ certificate: c }: { certificate: EndCertificate }) {
  return (
    <dl className="small my-1">
      <div>
        <dt className="soft inline">Name </dt>
        <dd className="inline font-semibold">{c.name}</dd>
        {c.issuer ? `, signed by ${c.issuer}` : ", signed by itself"}
      </div>
      <div>
        <dt className="soft inline">Fingerprint </dt>
        <dd className="mono inline break-all" data-testid="fingerprint">
          {c.fingerprint}
        </dd>
      </div>
      <div>
        <dt className="soft inline">Counts </dt>
        <dd className="inline">
          {dayOf(c.fromMs)} to {dayOf(c.toMs)}
        </dd>
      </div>
      {c.hosts.length > 0 && (
        <div>
          <dt className="soft inline">For </dt>
          <dd className="mono inline break-all">{c.hosts.join(", ")}</dd>
        </div>
      )}
    </dl>
  );
}

/** The certificate of an own end, which is made here, and handed to who has to trust it. */
function Own({ own, file, far, onMake }: { own?: EndCertificate; file: string; far: string; onMake: () => void }) {
  return (
    <>
      {own ? <Shown certificate={own} /> : <p className="small soft">It has no certificate yet.</p>}
      <div className="mt-1 flex flex-wrap gap-2">
        <button type="button" className="button" onClick={onMake}>
          {own ? "Make another certificate" : "Make a certificate"}
        </button>
        {own && file && (
          <a className="button" href={`/api/kept/certificate/${encodeURIComponent(file)}`} download="certificate.pem">
            Hand it out
          </a>
        )}
      </div>
      {own && (
        <p className="small mt-1">
          Have {far} trust it: look there among those that were refused, or bring the file in.
        </p>
      )}
    </>
  );
}

/** What Ferry shows as a device, and which clients it does not trust. */
export function Strangers({ device, file }: { device: string; file: string }) {
  const client = useQueryClient();
  const key = ["strangers", device];
  const { data } = useQuery({
    queryKey: key,
    queryFn: () => get<StrangersView>(`/api/devices/${device}/strangers`),
    refetchInterval: 2000,
  });
  if (!data) return null;
  return (
    <section className="mt-4" aria-label="Certificates">
      <h3 className="mb-1">Who it says it is</h3>
      <Own
        own={data.own}
        file={file}
        far="each client"
        onMake={() =>
          void attempt(async () => {
            say((await post<NotedView>(`/api/devices/${device}/certificate`)).said);
            await client.invalidateQueries({ queryKey: key });
          })
        }
      />
      {data.strangers.length > 0 && <h3 className="mt-3 mb-1">Clients that are not trusted</h3>}
      {data.strangers.map((c) => (
        <div key={c.fingerprint} data-stranger={c.name}>
          <Shown certificate={c} />
          <button
            type="button"
            className="button mb-2"
            onClick={() =>
              void attempt(async () => {
                client.setQueryData(
                  key,
                  await post<StrangersView>(`/api/devices/${device}/strangers`, { fingerprint: c.fingerprint }),
                );
                say("Trusted. The client has to trust the certificate of this end, too.");
              })
            }
          >
            It is the same: trust it
          </button>
        </div>
      ))}
    </section>
  );
}
