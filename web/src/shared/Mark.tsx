import type { ReactNode } from "react";

export type MarkKind = "good" | "doubt" | "fault" | "not-yet" | "stale";

const words: Record<MarkKind, string> = {
  good: "good",
  doubt: "doubtful",
  fault: "fault",
  "not-yet": "not yet tried",
  stale: "old",
};

const shapes: Record<MarkKind, ReactNode> = {
  good: (
    <>
      <circle cx="8" cy="8" r="7" fill="var(--good)" />
      <path d="M4.800 8.200l2.200 2.200 4.200-4.600" fill="none" stroke="var(--sheet)" strokeWidth="1.800" />
    </>
  ),
  doubt: (
    <path
      d="M8 1.500L15 14H1z M8 6v4 M8 11.400v1.300"
      fill="var(--doubt)"
      stroke="var(--sheet)"
      strokeWidth="1.200"
      strokeLinejoin="round"
    />
  ),
  fault: (
    <>
      <rect x="1.500" y="1.500" width="13" height="13" rx="2" fill="var(--fault)" />
      <path d="M5 5l6 6M11 5l-6 6" stroke="var(--sheet)" strokeWidth="1.800" />
    </>
  ),
  "not-yet": <circle cx="8" cy="8" r="6" fill="none" stroke="var(--notyet)" strokeWidth="1.600" />,
  stale: (
    <>
      <circle cx="8" cy="8" r="6" fill="none" stroke="var(--doubt)" strokeWidth="1.600" />
      <path d="M8 2a6 6 0 0 1 0 12z" fill="var(--doubt)" />
    </>
  ),
};

/** A state as shape and colour together: a round with a tick, a triangle, a square with a cross, rings. */
export function Mark({ kind, size = 16, label }: { kind: MarkKind; size?: number; label?: string }) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 16 16"
      role="img"
      aria-label={label ?? words[kind]}
      className="flex-none"
    >
      {shapes[kind]}
    </svg>
  );
}

/** The mark for a result of a stop, a severity or a quality. */
export function markOf(result: string | undefined): MarkKind {
  switch (result) {
    case "good":
    case "answered":
      return "good";
    case "doubt":
    case "doubtful":
      return "doubt";
    case "fault":
    case "bad":
      return "fault";
    case "note":
      return "stale";
    default:
      return "not-yet";
  }
}
