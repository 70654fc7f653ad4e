/** What an exchange that failed is looked up by in the codebook: its own code, or that of the finding it leads to. */
export function lookUp(outcome: string, code = 0): string {
  if (code) return String(code);
  return (
    {
      refused: "port-refused",
      unreached: "host-silent",
      "no answer": "no-answer",
      reset: "connection-dropped",
      closed: "connection-dropped",
      "no such name": "host-silent",
    }[outcome] ?? ""
  );
}
