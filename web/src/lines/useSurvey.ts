import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../api/client";
import type { LinkView, SurveyView } from "../api/types.gen";
import { attempt } from "../shared/toast";

/** What the device of a link says that it is set to: asked on demand, and seen by every part of the page. */
export function useSurvey(link: LinkView) {
  const client = useQueryClient();
  const [busy, setBusy] = useState(false);
  const queryKey = ["survey", link.id];
  const { data: told } = useQuery<SurveyView>({
    queryKey,
    queryFn: () => post<SurveyView>(`/api/links/${link.id}/survey`),
    enabled: false,
    staleTime: Infinity,
  });
  const ask = async (deep = false) => {
    setBusy(true);
    await attempt(async () => {
      client.setQueryData(queryKey, await post<SurveyView>(`/api/links/${link.id}/survey${deep ? "?deep=1" : ""}`));
    });
    setBusy(false);
  };
  /** The plan has been made what the device says. */
  const noted = () =>
    client.setQueryData(
      queryKey,
      (was?: SurveyView) =>
        was && { ...was, rows: was.rows.map((r) => ({ ...r, plan: r.says, known: true, same: true })) },
    );
  return { told, busy, ask, noted };
}
