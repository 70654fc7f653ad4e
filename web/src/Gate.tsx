import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { problemOf, signedOut, useMe } from "./api/client";
import { keepStream } from "./api/live";
import { SignIn } from "./access/SignIn";
import { Shell } from "./Shell";
import { ProblemNotice } from "./shared/ui";

/** Lets in who is known; asks everybody else who they are. */
export function Gate() {
  const { data: me, error } = useMe();
  const client = useQueryClient();
  useEffect(() => {
    const tell = () => void client.invalidateQueries({ queryKey: ["me"] });
    signedOut.add(tell);
    return () => {
      signedOut.delete(tell);
    };
  }, [client]);
  const inside = me?.signedIn ?? false;
  useEffect(() => (inside ? keepStream(client) : undefined), [client, inside]);
  if (error && !me)
    return (
      <main className="p-8">
        <ProblemNotice problem={problemOf(error)} />
      </main>
    );
  if (!me) return <main className="soft p-8">Opening…</main>;
  return inside ? <Shell /> : <SignIn me={me} />;
}
