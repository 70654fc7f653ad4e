// What of the pages is computed without a page: bundled alone, it is tested from Go.
export { changed, taken } from "./api/pulse";
export { readValue, shownValue } from "./lines/settings";
export { dimsOf, dimsText } from "./points/dims";
export { inView, turned } from "./points/rows";
export { changes, pasted, tableOf, textOf } from "./points/sheet";
