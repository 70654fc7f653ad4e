import type { Format as SerialFormat, Line } from "../api/types.gen";

/** The usual bit rates, slow to fast. */
export const bauds = [1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200];

export const usual = { baud: 19200, data: 8, parity: "even", stop: 1 } as const;

/** What the ports of a line should be set to. */
export const formatOf = (line: Line) => line.serial ?? { standard: "tia-485-2w" as const, ...usual };

export const baudWord = (baud: number) => String(baud).replace(/(\d)(?=(\d{3})+$)/g, "$1\u2009");

/** A format as the trade writes it: 19 200 8E1. */
export const formatWord = (f: { baud: number; data: number; parity: string; stop: number }) =>
  `${baudWord(f.baud)} ${f.data}${f.parity.charAt(0).toUpperCase()}${f.stop}`;

/** Reads what formatWord writes: "19200 8E1". */
export function readFormat(text: string): SerialFormat {
  const parts = /^\s*([\d\s\u2009]+?)[\s\u2009,/]+([78])([neo])([12])\s*$/i.exec(text);
  if (!parts) throw new Error(`“${text}” is no serial format: write it as 19200 8E1.`);
  const parity = { n: "none", e: "even", o: "odd" }[parts[3]?.toLowerCase() ?? "n"] as SerialFormat["parity"];
  return { baud: Number(parts[1]?.replace(/\D/g, "")), data: Number(parts[2]), parity, stop: Number(parts[4]) };
}
