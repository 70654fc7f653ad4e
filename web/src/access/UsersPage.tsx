import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { get, post, problemOf, useMe } from "../api/client";
import type { Problem, UserView, UsersView } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { Dialog, Empty, ProblemNotice } from "../shared/ui";

const day = (at: string) => new Date(at).toLocaleDateString("en-GB", { dateStyle: "medium" });
const when = (at: string) => new Date(at).toLocaleString("en-GB", { dateStyle: "short", timeStyle: "medium" });

/** Who may use this Ferry, what they reach it with, and who tried to. */
export function UsersPage() {
  const { data: me } = useMe();
  const may = me?.role === "plant";
  const { data, error } = useQuery({
    queryKey: ["users"],
    queryFn: () => get<UsersView>("/api/users"),
    refetchInterval: 5000,
    enabled: may,
  });
  const [editing, setEditing] = useState<UserView | "new">();
  const [removing, setRemoving] = useState<UserView>();
  const client = useQueryClient();
  if (!me) return <p className="soft p-8">Reading who is there…</p>;
  if (!me.guarded)
    return (
      <Empty title="Nobody signs in here">
        This Ferry listens on this machine alone and is open to whoever sits at it. Start it with{" "}
        <span className="mono">--tls</span>, or with <span className="mono">--listen</span> and an address that others
        can reach: then people sign in, with names and roles.
      </Empty>
    );
  if (!may)
    return (
      <Empty title="You may not see the users">
        Only those who may write to the plant see to the users. You are signed in as {me.name}.
      </Empty>
    );
  if (error)
    return (
      <div className="p-6">
        <ProblemNotice problem={problemOf(error)} />
      </div>
    );
  if (!data) return <p className="soft p-8">Reading the users…</p>;
  const title = (role: string) => data.roles.find((r) => r.role === role)?.title ?? role;
  const remove = (user: UserView) =>
    attempt(async () => {
      client.setQueryData(
        ["users"],
        await post<UsersView>("/api/users/remove", { name: user.name, role: user.role, passphrase: "" }),
      );
      say(`${user.name} may no longer sign in.`);
      setRemoving(undefined);
    });
  return (
    <div className="grid min-w-0 flex-1 grid-cols-[3fr_2fr] content-start gap-4 overflow-y-auto p-4 max-[1100px]:grid-cols-1">
      <section className="card p-4">
        <div className="mb-2 flex items-center">
          <h2>Users</h2>
          <button type="button" className="button main ml-auto" onClick={() => setEditing("new")}>
            Add a user
          </button>
        </div>
        <table className="rows" aria-label="Users">
          <thead>
            <tr>
              <th>Name</th>
              <th>May</th>
              <th>Since</th>
              <th>
                <span className="sr-only">Change</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {data.users.map((u) => (
              <tr key={u.name}>
                <td className="break-words">
                  <b>{u.name}</b>
                  {u.name === me.name && <span className="small soft"> · you</span>}
                </td>
                <td>{title(u.role)}</td>
                <td className="whitespace-nowrap">{day(u.since)}</td>
                <td className="text-right whitespace-nowrap">
                  <button type="button" className="button tight" onClick={() => setEditing(u)}>
                    Change…
                  </button>{" "}
                  <button type="button" className="button tight" onClick={() => setRemoving(u)}>
                    Remove…
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <p className="small soft mt-3">
          Who may look sees everything and changes nothing. Who may edit changes the site, asks devices and writes on
          the bench. Who may write to the plant also unlocks it, releases crossings, and sees to the users.
        </p>
      </section>
      <section className="card p-4">
        <h2 className="mb-2">Certificate</h2>
        {me.certificate && (
          <dl className="grid grid-cols-[90px_1fr] gap-x-3 gap-y-2">
            <dt className="small soft">Made by</dt>
            <dd>
              {me.certificate.own
                ? "Ferry itself: browsers warn until it is trusted"
                : "somebody else, given at the start"}
            </dd>
            <dt className="small soft">Fingerprint</dt>
            <dd className="mono small break-all">{me.certificate.fingerprint}</dd>
            <dt className="small soft">Valid</dt>
            <dd>
              {day(me.certificate.from)} to {day(me.certificate.to)}
            </dd>
            <dt className="small soft">For</dt>
            <dd className="mono small break-words">{me.certificate.names.join(", ")}</dd>
          </dl>
        )}
      </section>
      <section className="card p-4 min-[1101px]:col-span-2">
        <h2 className="mb-2">Who signed in, or tried to</h2>
        <table className="rows" aria-label="Attempts to sign in">
          <thead>
            <tr>
              <th className="w-10">
                <span className="sr-only">Result</span>
              </th>
              <th>When</th>
              <th>Name</th>
              <th>From</th>
              <th>What</th>
            </tr>
          </thead>
          <tbody>
            {data.attempts.map((a, i) => (
              <tr key={i}>
                <td>
                  <Mark kind={a.ok ? "good" : "fault"} label={a.ok ? "signed in" : "refused"} />
                </td>
                <td className="mono whitespace-nowrap">{when(a.at)}</td>
                <td className="break-words">{a.name}</td>
                <td className="mono">{a.from}</td>
                <td>{a.ok ? "signed in" : a.why}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      {editing && (
        <UserDialog
          key={editing === "new" ? "" : editing.name}
          user={editing === "new" ? undefined : editing}
          view={data}
          onClose={() => setEditing(undefined)}
        />
      )}
      <Dialog open={!!removing} onClose={() => setRemoving(undefined)} title={`Remove ${removing?.name ?? ""}?`}>
        <p className="mb-4">Their sessions end at once. What they did stays in the journals under their name.</p>
        <div className="flex justify-end gap-2">
          <button type="button" className="button" onClick={() => setRemoving(undefined)}>
            Keep
          </button>
          <button type="button" className="button danger" onClick={() => removing && void remove(removing)}>
            Remove
          </button>
        </div>
      </Dialog>
    </div>
  );
}

/** Adds a user, or changes one. */
function UserDialog({ user, view, onClose }: { user?: UserView; view: UsersView; onClose: () => void }) {
  const client = useQueryClient();
  const [name, setName] = useState(user?.name ?? "");
  const [role, setRole] = useState<string>(user?.role ?? "edit");
  const [passphrase, setPassphrase] = useState("");
  const [problem, setProblem] = useState<Problem>();
  const go = async (e: FormEvent) => {
    e.preventDefault();
    try {
      client.setQueryData(["users"], await post<UsersView>("/api/users", { name, role, passphrase }));
      onClose();
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <Dialog open onClose={onClose} title={user ? `Change ${user.name}` : "Add a user"}>
      <form onSubmit={(e) => void go(e)}>
        <label className="small soft block" htmlFor="user-name">
          Name
        </label>
        <input
          id="user-name"
          className="input mb-3"
          autoComplete="off"
          maxLength={64}
          disabled={!!user}
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
        <label className="small soft block" htmlFor="user-role">
          May
        </label>
        <select id="user-role" className="input mb-3" value={role} onChange={(e) => setRole(e.target.value)}>
          {view.roles.map((r) => (
            <option key={r.role} value={r.role}>
              {r.title}
            </option>
          ))}
        </select>
        <label className="small soft block" htmlFor="user-passphrase">
          {user ? "New passphrase, or nothing to leave it" : "Passphrase, 8 characters or more"}
        </label>
        <input
          id="user-passphrase"
          className="input"
          type="password"
          autoComplete="new-password"
          maxLength={1024}
          value={passphrase}
          onChange={(e) => setPassphrase(e.target.value)}
        />
        {problem && <ProblemNotice problem={problem} />}
        <div className="mt-4 flex justify-end gap-2">
          <button type="button" className="button" onClick={onClose}>
            Give up
          </button>
          <button type="submit" className="button main" disabled={!name || (!user && !passphrase)}>
            {user ? "Change" : "Add"}
          </button>
        </div>
      </form>
    </Dialog>
  );
}
