import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { post } from "../api/client";
import { useLiveState } from "../api/live";
import { attempt } from "./toast";
import { Dialog } from "./ui";

/** Bench and plant never look alike: the bench is hatched teal, the plant has a signal colour. */
export function ModeSwitch() {
  const { state } = useLiveState();
  const [asking, setAsking] = useState(false);
  const go = (mode: "bench" | "plant") => attempt(() => post("/api/mode", { mode }));
  const bench = state.mode === "bench";
  return (
    <>
      <div
        role="group"
        aria-label="Bench or plant"
        className="flex flex-none overflow-hidden rounded-md border border-white/40 text-[13.500px] font-semibold"
      >
        <button
          type="button"
          aria-pressed={bench}
          className={"px-3 py-1 " + (bench ? "hatch" : "")}
          onClick={() => void go("bench")}
        >
          Bench
        </button>
        <button
          type="button"
          aria-pressed={!bench}
          className="px-3 py-1"
          style={bench ? undefined : { background: "var(--plant)", color: "#fff" }}
          onClick={() => bench && setAsking(true)}
        >
          Plant
        </button>
      </div>
      <Dialog open={asking} onClose={() => setAsking(false)} title="Go to the plant?">
        <p className="mb-2">
          From then on Ferry talks to the real devices at the addresses of the site. What runs on the bench is stopped
          first.
        </p>
        <p className="mb-4">
          Nothing is asked until you start a run or try a link. Writing by hand stays locked until you unlock it, and no
          crossing writes until you release it by name.
        </p>
        <div className="flex justify-end gap-2">
          <button type="button" className="button" onClick={() => setAsking(false)}>
            Stay on the bench
          </button>
          <button
            type="button"
            className="button main"
            onClick={() => {
              setAsking(false);
              void go("plant");
            }}
          >
            Go to the plant
          </button>
        </div>
      </Dialog>
    </>
  );
}

/** On plant: whether writing is locked, and for how long it is not. */
export function PlantLock() {
  const { state } = useLiveState();
  const unlock = (minutes: number) => attempt(() => post("/api/unlock", { minutes }));
  const minutes = Math.ceil(state.unlockedMs / 60_000);
  return (
    <div
      className="flex flex-none items-center gap-3 border-b border-rule px-4 py-1"
      style={{ background: "var(--fault-wash)" }}
      role="status"
    >
      <b>Plant: these are real devices.</b>
      {state.unlockedMs > 0 ? (
        <>
          <span>
            Writing by hand is unlocked for {minutes} more {minutes === 1 ? "minute" : "minutes"}.
          </span>
        </>
      ) : (
        <>
          <span>Writing by hand is locked.</span>
          {[5, 15].map((n) => (
            <button key={n} type="button" className="button tight" onClick={() => void unlock(n)}>
              Unlock for {n} minutes
            </button>
          ))}
        </>
      )}
      {state.released.length > 0 && (
        <Link to="/crossings" className="underline">
          {state.released.length === 1 ? "One crossing writes." : `${state.released.length} crossings write.`}
        </Link>
      )}
      {(state.unlockedMs > 0 || state.released.length > 0) && (
        <button type="button" className="button tight" onClick={() => void unlock(0)}>
          Lock now
        </button>
      )}
    </div>
  );
}
