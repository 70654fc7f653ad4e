import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, postBody, problemOf } from "../api/client";
import type { Kept, Problem, Setting } from "../api/types.gen";
import { Dialog, Field, ProblemNotice } from "../shared/ui";

const anew = "\u0000new";

/** A setting that names a secret or a file: what it names lies on this machine, apart from the site. */
export function KeptField({
  setting,
  value,
  onBegin,
  onCommit,
}: {
  setting: Setting;
  value: string;
  onBegin?: () => void;
  onCommit: (name: string) => Promise<unknown>;
}) {
  const [open, setOpen] = useState(false);
  const { data } = useQuery({ queryKey: ["kept"], queryFn: () => get<Kept[]>("/api/kept") });
  const names = (data ?? []).filter((k) => k.kind === setting.kind).map((k) => k.name);
  const there = names.includes(value);
  const options = [
    { value: "", title: "none" },
    ...names.map((name) => ({ value: name, title: name })),
    ...(value && !there ? [{ value, title: `${value} · not on this machine` }] : []),
    { value: anew, title: value ? `enter “${value}” anew, or another…` : `enter a ${setting.kind}…` },
  ];
  return (
    <>
      <Field
        key={String(open)}
        label={setting.title}
        help={setting.help ?? `The site names the ${setting.kind} and does not hold it.`}
        value={value}
        options={options}
        onBegin={onBegin}
        onCommit={async (name) => {
          if (name === anew) setOpen(true);
          else await onCommit(name);
        }}
      />
      {value && data && !there && (
        <p className="small text-fault">
          The {setting.kind} is not on this machine: a site file names it and does not hold it. Enter it here.
        </p>
      )}
      {open && (
        <Enter
          kind={setting.kind}
          title={setting.title}
          name={value}
          onClose={() => setOpen(false)}
          onKept={async (name) => {
            setOpen(false);
            if (name !== value) await onCommit(name);
          }}
        />
      )}
    </>
  );
}

/** Takes a secret or a file in, under a name. */
function Enter({
  kind,
  title,
  name: first,
  onClose,
  onKept,
}: {
  kind: string;
  title: string;
  name: string;
  onClose: () => void;
  onKept: (name: string) => Promise<unknown>;
}) {
  const client = useQueryClient();
  const [name, setName] = useState(first);
  const [secret, setSecret] = useState("");
  const [file, setFile] = useState<File>();
  const [problem, setProblem] = useState<Problem>();
  const content = kind === "file" ? file : secret;
  const keep = async () => {
    try {
      await postBody(`/api/kept/${kind}/${encodeURIComponent(name.trim())}`, content ?? "");
      await client.invalidateQueries({ queryKey: ["kept"] });
      await onKept(name.trim());
    } catch (error) {
      setProblem(problemOf(error));
    }
  };
  return (
    <Dialog open onClose={onClose} title={title}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void keep();
        }}
      >
        <label className="small soft block">
          Name, as the site has it
          <input className="input mt-1" value={name} onChange={(e) => setName(e.target.value)} spellCheck={false} />
        </label>
        <label className="small soft mt-2 block">
          {kind === "file" ? "File" : "Secret"}
          {kind === "file" ? (
            <input className="input mt-1" type="file" onChange={(e) => setFile(e.target.files?.[0])} />
          ) : (
            <input
              className="input mt-1"
              type="password"
              autoComplete="new-password"
              value={secret}
              onChange={(e) => setSecret(e.target.value)}
            />
          )}
        </label>
        <p className="small soft mt-2">
          It stays on this machine. {kind === "secret" ? "Ferry does not show it again, to anybody." : ""}
        </p>
        {problem && <ProblemNotice problem={problem} />}
        <div className="mt-3 flex gap-2">
          <button type="submit" className="button main" disabled={!content || !name.trim()}>
            Keep it
          </button>
          <button type="button" className="button" onClick={onClose}>
            Leave it
          </button>
        </div>
      </form>
    </Dialog>
  );
}
