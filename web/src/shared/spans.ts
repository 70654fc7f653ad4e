const spans: Record<string, number> = { ms: 1, s: 1000, min: 60_000, h: 3_600_000, d: 86_400_000 };

/** A time as typed, in milliseconds: "200 ms", "5 s", "2 min"; a plain number is in seconds. */
export function readSpan(text: string): number {
  const t = text.trim().replace(",", ".");
  if (t === "") return 0;
  const parts = /^([\d.]+)\s*(ms|s|min|h|d)?$/.exec(t);
  const n = Number(parts?.[1]);
  if (!parts || !Number.isFinite(n)) throw new Error(`“${text}” is no time: write it as 200 ms, 5 s or 2 min.`);
  return Math.round(n * (spans[parts[2] ?? "s"] ?? 1000));
}

/** A time in milliseconds as it is typed; nothing for 0. */
export function spanText(ms: number | undefined): string {
  if (!ms) return "";
  for (const unit of ["d", "h", "min", "s"]) {
    const whole = ms / (spans[unit] ?? 1);
    if (Number.isInteger(whole)) return `${whole} ${unit}`;
  }
  return `${ms} ms`;
}

/** For how long something was. */
export function lasted(ms: number): string {
  if (ms < 10_000) return `${(ms / 1000).toFixed(1)} s`;
  if (ms < 120_000) return `${Math.round(ms / 1000)} s`;
  if (ms < 7_200_000) return `${Math.floor(ms / 60_000)} min ${Math.floor(ms / 1000) % 60} s`;
  return `${Math.floor(ms / 3_600_000)} h ${Math.floor(ms / 60_000) % 60} min`;
}
