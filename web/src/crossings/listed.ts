import { useQuery } from "@tanstack/react-query";
import { get } from "../api/client";
import { deviceOf } from "../api/site";
import type { CrossingView, List, SiteView, ListStanding } from "../api/types.gen";
import type { MarkKind } from "../shared/Mark";

export type Goes = "there" | "here" | "both";

/** How the lists of names stand now, by list. */
export function useStandings(): Map<string, ListStanding> {
  const { data } = useQuery({
    queryKey: ["lists"],
    queryFn: () => get<ListStanding[]>("/api/lists"),
    refetchInterval: 1000,
  });
  return new Map(data?.map((s) => [s.list, s]));
}

/** The mark of how a list stands. */
export function standsAs(standing: ListStanding | undefined): MarkKind {
  switch (standing?.stand) {
    case "carries all":
      return "good";
    case "carries some":
      return "doubt";
    case "carries nothing":
    case "not connected":
      return "fault";
    default:
      return "not-yet";
  }
}

/** The names of a list, each with its end on this side and the one on the far side. */
export function namesOf(site: SiteView, list: List) {
  return site.crossings
    .filter((c) => c.list === list.id)
    .map((crossing) => {
      const comes = crossing.source.device === list.far;
      return {
        crossing,
        goes: goesOf(crossing, list),
        here: comes ? { id: crossing.to, end: crossing.target } : { id: crossing.from ?? "", end: crossing.source },
        there: comes ? { id: crossing.from ?? "", end: crossing.source } : { id: crossing.to, end: crossing.target },
      };
    });
}

export type Named = ReturnType<typeof namesOf>[number];

const goesOf = (crossing: CrossingView, list: List): Goes =>
  crossing.both ? "both" : crossing.source.device === list.far ? "here" : "there";

export const arrows: Record<Goes, string> = { there: "→", here: "←", both: "↔" };

/** What a list may carry, in words, with the name of its far side. */
export const carriesWords = (site: SiteView, list: List) => {
  const far = deviceOf(site, list.far)?.name ?? "the far side";
  return list.carries === "takes"
    ? `only reads from ${far}`
    : list.carries === "gives"
      ? `only gives to ${far}`
      : `both ways with ${far}`;
};
