import { useRef } from "react";

/**
 * Keys for the rows of a long list of which so many are drawn: a row that comes into view takes over the elements of
 * one that has left it, which costs a fraction of making them.
 */
export function useSlots(drawn: number): (index: number) => number {
  const most = useRef(1);
  most.current = Math.max(most.current, drawn);
  return (index) => index % most.current;
}
