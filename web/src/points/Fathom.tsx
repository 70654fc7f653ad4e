import { useEffect, useRef, useState } from "react";
import { post, problemOf, mapPath } from "../api/client";
import type { FathomAnswer, FathomReading, PointsView, PointView, Problem, WindowView } from "../api/types.gen";
import { clock, ProblemNotice } from "../shared/ui";
import { Fixes } from "./Fixes";

/** How many registers are read on each side of a point. */
const around = 20;

interface Moment {
  hex: string[];
  shows: string;
  others: Other[];
  atMs: number;
}

/** What the display shows of another point of the device at the same moment. */
interface Other {
  point: string; // id
  shows: string;
}

/** The widest window that is read at once. */
const widest = 250;

/**
 * Finds out what the registers around a point hold, from what the device's own display shows.
 * Each press reads the registers of that moment; readings of several moments count together. What is given has been
 * typed already, and is looked for at once.
 */
export function Fathom({ points, view, given = "" }: { points: PointsView; view: PointView; given?: string }) {
  const [shows, setShows] = useState(given);
  const [within, setWithin] = useState("");
  const [moments, setMoments] = useState<Moment[]>([]);
  const [window, setWindow] = useState<WindowView>();
  const [answer, setAnswer] = useState<FathomAnswer>();
  const [typed, setTyped] = useState<string>();
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const [chosen, setChosen] = useState(0);
  const [looked, setLooked] = useState(false);
  const [others, setOthers] = useState<Other[]>([]);
  const size = points.areas.find((a) => a.key === view.area)?.units ?? 65536;

  const read = async (): Promise<WindowView> => {
    if (typed !== undefined) {
      const hex = typed.trim().split(/[\s,;]+/);
      return { area: view.area, start: view.start, words: [], atMs: Date.now(), address: "", hex, hints: [] };
    }
    // The window holds the other points as well, as far as they are near enough.
    const rows = points.rows.filter((r) => others.some((o) => o.point === r.id && o.shows.trim()));
    const start = Math.max(0, Math.min(view.start, ...rows.map((r) => r.start)) - around, view.start - widest + around);
    const end = Math.min(
      size,
      Math.max(view.start + Math.max(1, view.units), ...rows.map((r) => r.start + r.units)) + around,
      start + widest,
    );
    const count = end - start;
    return post<WindowView>(mapPath(points, "window"), { area: view.area, start, count, at: view.start });
  };
  const search = async () => {
    setBusy(true);
    setProblem(undefined);
    try {
      const got = await read();
      // A window that lies elsewhere than the last begins anew.
      const kept = window && window.start === got.start && window.hex.length === got.hex.length ? moments : [];
      const list = [
        ...kept,
        { hex: got.hex, shows: shows.trim(), others: others.filter((o) => o.point && o.shows.trim()), atMs: got.atMs },
      ];
      const readings: FathomReading[] = list.flatMap((m, i) => [
        { moment: i, shows: m.shows, within: Number(within.replace(",", ".")) || 0, point: "" },
        ...m.others.map((o) => ({ moment: i, shows: o.shows.trim(), within: 0, point: o.point })),
      ]);
      const found = await post<FathomAnswer>(`/api/fathom?map=${points.map}`, {
        device: points.device,
        point: view.point.id,
        area: view.area,
        start: got.start,
        moments: list.map((m) => m.hex.join(" ")),
        readings,
      });
      setWindow(got);
      setMoments(list);
      setAnswer(found);
      setChosen(0);
    } catch (error) {
      setProblem(problemOf(error));
    }
    setBusy(false);
  };
  /** Without any reading: what do the words around the point look like? */
  const lookAround = async () => {
    setBusy(true);
    setProblem(undefined);
    try {
      const start = Math.max(0, view.start - around);
      setWindow(
        await post<WindowView>(mapPath(points, "window"), {
          area: view.area,
          start,
          count: Math.min(size, view.start + Math.max(1, view.units) + 3 * around) - start,
          at: view.start,
        }),
      );
      setAnswer(undefined);
      setMoments([]);
      setLooked(true);
    } catch (error) {
      setProblem(problemOf(error));
    }
    setBusy(false);
  };
  const asked = useRef(false);
  useEffect(() => {
    if (given && !asked.current) void search();
    asked.current = true;
  });
  const forget = () => {
    setLooked(false);
    setMoments([]);
    setAnswer(undefined);
    setWindow(undefined);
  };
  const best = answer?.candidates[chosen];
  const hints = window?.hints.filter((h) => looked || Math.abs(window.start + h.at - view.start) < 12) ?? [];
  return (
    <section className="mt-4" data-testid="fathom">
      <h3 className="mb-1">Fathom it</h3>
      <p className="small soft mb-1">What does the device’s own display show now?</p>
      <div className="flex gap-2">
        <input
          className="input mono"
          aria-label="The display shows"
          placeholder="12.5, on, a text"
          value={shows}
          onChange={(e) => setShows(e.target.value)}
          onKeyDown={(e) => e.key === "Enter" && shows.trim() && void search()}
        />
        <input
          className="input mono !w-[84px]"
          aria-label="Within"
          placeholder="± last digit"
          value={within}
          onChange={(e) => setWithin(e.target.value)}
        />
        <button type="button" className="button main" disabled={!shows.trim() || busy} onClick={() => void search()}>
          {moments.length ? "Add reading" : "Find it"}
        </button>
      </div>
      {others.map((o, i) => (
        <div key={i} className="mt-1 flex gap-2">
          <select
            className="input"
            aria-label={`Other point ${i + 1}`}
            value={o.point}
            onChange={(e) => setOthers(others.map((x, j) => (j === i ? { ...x, point: e.target.value } : x)))}
          >
            <option value="">of another point…</option>
            {points.rows
              .filter(
                (r) =>
                  r.area === view.area &&
                  r.id !== view.point.id &&
                  Math.abs(r.start - view.start) < widest - 2 * around,
              )
              .slice(0, 300)
              .map((r) => (
                <option key={r.id} value={r.id}>
                  {r.cells[0]}
                </option>
              ))}
          </select>
          <input
            className="input mono !w-[110px]"
            aria-label={`Other point ${i + 1} shows`}
            placeholder="shows"
            value={o.shows}
            onChange={(e) => setOthers(others.map((x, j) => (j === i ? { ...x, shows: e.target.value } : x)))}
            onKeyDown={(e) => e.key === "Enter" && shows.trim() && void search()}
          />
        </div>
      ))}
      <button
        type="button"
        className="small soft mt-1 mr-3 underline"
        onClick={() => setOthers([...others, { point: "", shows: "" }])}
      >
        It shows another point as well
      </button>
      <button
        type="button"
        className="small soft mt-1 mr-3 underline"
        disabled={busy}
        onClick={() => void lookAround()}
      >
        What do the words around it look like?
      </button>
      <button
        type="button"
        className="small soft mt-1 underline"
        onClick={() => {
          setTyped(typed === undefined ? "" : undefined);
          forget();
        }}
      >
        {typed === undefined ? "Type or paste the words instead of reading them" : "Read the words from the device"}
      </button>
      {typed !== undefined && (
        <textarea
          className="input mono mt-1"
          rows={2}
          aria-label="Words"
          placeholder={`9F3A 4148, from ${view.notations[0]?.text ?? "the point"} on`}
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
      )}
      {problem && <ProblemNotice problem={problem} />}
      {moments.length > 0 && (
        <p className="small soft mt-1">
          Read so far:{" "}
          {moments
            .map((m) => `${[m.shows, ...m.others.map((o) => o.shows)].join(" and ")} at ${clock(m.atMs)}`)
            .join("; ")}
          .{" "}
          <button type="button" className="underline" onClick={forget}>
            Begin anew
          </button>
        </p>
      )}
      {answer && answer.candidates.length > 0 && (
        <table className="rows mt-2" data-testid="candidates">
          <thead>
            <tr>
              <th>Address</th>
              <th>Reads as</th>
              <th className="num">Gives</th>
              <th className="num">Sure</th>
            </tr>
          </thead>
          <tbody>
            {answer.candidates.slice(0, 6).map((c, i) => (
              <tr
                key={`${c.address} ${c.type} ${c.order} ${c.scale}`}
                className={i === chosen ? "chosen" : ""}
                onClick={() => setChosen(i)}
              >
                <td className="mono">
                  <button type="button" aria-pressed={i === chosen}>
                    {c.address}
                  </button>
                </td>
                <td>
                  {c.type} {c.order} {c.scale} {c.offset && `+ ${c.offset}`}
                </td>
                <td className="num">{c.values.at(-1)}</td>
                <td className="num">
                  <span className={"chip " + (c.fits ? "note" : "doubt")}>
                    {c.fits ? (c.sure < 0.01 ? "< 1 %" : `${Math.round(c.sure * 100)} %`) : "near"}
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {answer?.ask && (
        <p className="small mt-2">
          <b>{answer.candidates.length ? "To be sure:" : ""}</b> {answer.ask}
        </p>
      )}
      {best &&
        (best.fixes.length > 0 ? (
          <Fixes points={points} fixes={best.fixes} what="Fathom" onDone={forget} />
        ) : (
          <p className="small mt-2">
            <b>The map says the same already.</b>
          </p>
        ))}
      {looked && hints.length === 0 && (
        <p className="small mt-2">
          The words around it are small numbers; nothing looks like a float, a text, a time or a packed decimal.
        </p>
      )}
      {hints.length > 0 && (
        <div className="small mt-3">
          <div className="soft">Words nearby that look like something, without any reading:</div>
          {hints.slice(0, looked ? 24 : 6).map((h) => (
            <div key={h.at}>
              <span className="mono">{h.address}</span> {h.type} {h.order}: <span className="mono">{h.shows}</span>
            </div>
          ))}
        </div>
      )}
    </section>
  );
}
