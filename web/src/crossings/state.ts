import { useLivePart } from "../api/live";
import type { CrossingView, Finding } from "../api/types.gen";
import { markOf, type MarkKind } from "../shared/Mark";

const known = new WeakMap<Finding[], Map<string, Finding>>();

/** The worst finding of each crossing. */
function findingsOf(findings: Finding[]): Map<string, Finding> {
  let of = known.get(findings);
  if (!of) {
    of = new Map();
    for (const f of findings) if (f.subject.kind === "crossing" && !of.has(f.subject.id)) of.set(f.subject.id, f);
    known.set(findings, of);
  }
  return of;
}

/** How a crossing is, as its mark and in words. */
export function useCrossingState(crossing: CrossingView): { kind: MarkKind; words: string } {
  const state = useLivePart((live) => live.crossings[crossing.id]);
  const finding = useLivePart((live) => findingsOf(live.findings).get(crossing.id));
  if (state?.state === "failed") return { kind: "fault", words: state.sentence ?? "" };
  if (state?.state === "stopped" || state?.state === "away") return { kind: "fault", words: state.sentence ?? "" };
  if (finding && finding.severity !== "note") return { kind: markOf(finding.severity), words: finding.sentence };
  if (crossing.off) return { kind: "not-yet", words: "switched off" };
  switch (state?.state) {
    case "holding":
    case "substituting":
    case "sparing":
      return { kind: "stale", words: state.sentence ?? "" };
    case "waiting":
    case "disabled":
      return { kind: "not-yet", words: state.sentence ?? "" };
    case "carrying":
      return { kind: "good", words: "carrying" };
  }
  return { kind: "not-yet", words: "not run yet" };
}
