import type { CrossingState, Event, Finding, ProverView, Pulse, State } from "./types.gen";

/** What the event stream has told so far, but the values. */
export interface LiveState {
  connected: boolean;
  state: State;
  findings: Finding[];
  crossings: Record<string, CrossingState>;
  exchange: number;
  nowMs: number;
  /** What lookouts see now, and a number that grows when one begins or is over. */
  open: Event[];
  lookouts: number;
  /** The number of the latest proof, and who proves which point now. */
  proved: number;
  provers: ProverView[];
}

/** What a pulse makes of the live state. What is as it was stays the same object, so that nobody draws it again. */
export function taken(current: LiveState, pulse: Pulse): LiveState {
  const state = {
    ...pulse.state,
    running: alike(pulse.state.running, current.state.running),
    serving: alike(pulse.state.serving, current.state.serving),
    released: alike(pulse.state.released, current.state.released),
    allowed: alike(pulse.state.allowed, current.state.allowed),
  };
  return {
    connected: true,
    state: alike(state, current.state),
    findings: pulse.findings ?? current.findings,
    crossings: moved(current, pulse),
    exchange: pulse.exchange,
    nowMs: pulse.nowMs,
    open: alike(pulse.open, current.open),
    lookouts: pulse.lookouts,
    proved: pulse.proved,
    provers: alike(pulse.provers, current.provers),
  };
}

/** The states of crossings: a pulse tells of those that are others, or of all. */
function moved(current: LiveState, pulse: Pulse): LiveState["crossings"] {
  const same = pulse.state.mode === current.state.mode;
  if (!pulse.whole && same && pulse.crossings.length === 0) return current.crossings;
  const told = Object.fromEntries(pulse.crossings.map((c) => [c.id, c]));
  if (pulse.whole) return alike(told, current.crossings);
  return same ? { ...current.crossings, ...told } : told;
}

/** The old one of two values that say the same. */
const alike = <T>(now: T, old: T): T => (JSON.stringify(now) === JSON.stringify(old) ? old : now);

/** How far a stream has told: 0 and -1 for nothing yet. What is shown may be of an earlier stream. */
export interface Told {
  seq: number;
  routes: number;
  plan: number;
  shown: number;
}

/** Which of what was asked for is another by now, by the first part of its key. */
export function changed(told: Told, pulse: Pulse): "everything" | string[] {
  if (!told.seq && told.shown && told.shown !== pulse.seq) return "everything"; // it was changed while nobody told
  const keys = new Set<string>();
  const edited = told.seq !== 0 && pulse.seq !== told.seq;
  if (edited || (told.routes >= 0 && pulse.routes !== told.routes)) keys.add("site");
  if (edited) for (const key of ["points", "point", "timetable", "journal", "sheets", "checkout"]) keys.add(key);
  if (told.plan >= 0 && pulse.state.plan !== told.plan)
    for (const key of ["site", "points", "timetable"]) keys.add(key);
  return [...keys];
}
