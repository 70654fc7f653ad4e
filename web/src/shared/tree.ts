import type { KeyboardEvent } from "react";

/** The arrows go from node to node, open and close as in every tree; the space bar chooses. */
export function steer(e: KeyboardEvent<HTMLElement>) {
  const row = (e.target as HTMLElement).closest("[role=treeitem]");
  if (!row) return;
  if (e.key === "ArrowDown" || e.key === "ArrowUp") {
    const rows = [...e.currentTarget.querySelectorAll("[role=treeitem]")].filter(
      (r) => r === row || r.querySelector("input:enabled, button"),
    );
    const next = rows[rows.indexOf(row) + (e.key === "ArrowDown" ? 1 : -1)];
    next?.querySelector<HTMLElement>("input:enabled, button")?.focus();
  } else if (e.key === "ArrowRight" && row.ariaExpanded === "false") {
    row.querySelector("button")?.click();
  } else if (e.key === "ArrowLeft" && row.ariaExpanded === "true") {
    row.querySelector("button")?.click();
  } else {
    return;
  }
  e.preventDefault();
}
