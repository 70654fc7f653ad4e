import { useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { post, problemOf } from "../api/client";
import type { MeView, Problem } from "../api/types.gen";
import { ProblemNotice } from "../shared/ui";

/** Asks who is there, where others than this machine can reach Ferry. */
export function SignIn({ me }: { me: MeView }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [passphrase, setPassphrase] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const go = async (e: FormEvent) => {
    e.preventDefault();
    setBusy(true);
    try {
      await post("/api/sign-in", { name, passphrase });
      setProblem(undefined);
      setPassphrase("");
      await client.invalidateQueries();
    } catch (error) {
      setProblem(problemOf(error));
    }
    setBusy(false);
  };
  return (
    <main className="flex h-full items-center justify-center overflow-y-auto p-6">
      <form className="card w-[min(420px,100%)] p-6" onSubmit={(e) => void go(e)} aria-label="Sign in">
        <h1 className="mb-1 text-[22px] font-bold">Ferry</h1>
        <p className="soft mb-5">Sign in to see the site. Every change and every write is kept with your name.</p>
        <label className="small soft block" htmlFor="name">
          Name
        </label>
        <input
          id="name"
          className="input mb-3"
          autoComplete="username"
          autoCapitalize="none"
          spellCheck={false}
          autoFocus
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <label className="small soft block" htmlFor="passphrase">
          Passphrase
        </label>
        <input
          id="passphrase"
          className="input"
          type="password"
          autoComplete="current-password"
          maxLength={1024}
          value={passphrase}
          onChange={(e) => setPassphrase(e.target.value)}
        />
        {problem && <ProblemNotice problem={problem} />}
        <button
          type="submit"
          className="button main mt-5 w-full justify-center"
          disabled={busy || !name || !passphrase}
        >
          {busy ? "Looking…" : "Sign in"}
        </button>
        {me.certificate?.own && (
          <p className="small soft mt-5">
            Ferry made its certificate itself. Compare its fingerprint with what Ferry prints where it was started:
            <span className="mono mt-1 block break-all" data-testid="fingerprint">
              {me.certificate.fingerprint}
            </span>
          </p>
        )}
      </form>
    </main>
  );
}
