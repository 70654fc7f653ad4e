import type { Line } from "../api/types.gen";

/** The usual bit rates, slow to fast. */
export const bauds = [1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200];

export const usual = { baud: 19200, data: 8, parity: "even", stop: 1 } as const;

/** What the ports of a line should be set to. */
export const formatOf = (line: Line) => line.serial ?? { standard: "tia-485-2w" as const, ...usual };

export const baudWord = (baud: number) => String(baud).replace(/(\d)(?=(\d{3})+$)/g, "$1\u2009");

/** A format as the trade writes it: 19 200 8E1. */
export const formatWord = (f: { baud: number; data: number; parity: string; stop: number }) =>
  `${baudWord(f.baud)} ${f.data}${f.parity.charAt(0).toUpperCase()}${f.stop}`;
