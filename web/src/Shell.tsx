import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, Outlet, useNavigate, useRouterState } from "@tanstack/react-router";
import { Bell, Menu, Redo2, Undo2 } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { memo, useEffect, useMemo, useRef, useState } from "react";
import { get, post, postBody, useEdit, useMe, useSite } from "./api/client";
import { useLivePart } from "./api/live";
import type { EditAnswer, Finding, NoticesView } from "./api/types.gen";
import { count } from "./shared/numbers";
import { KeysDialog } from "./shared/Keys";
import { ModeSwitch, PlantLock } from "./shared/ModeSwitch";
import type { Action } from "./shared/actions";
import { Palette } from "./shared/Palette";
import { toggleTheme } from "./shared/theme";
import { sound } from "./shared/sound";
import { SitesDialog } from "./shared/SitesDialog";
import { attempt, say, Toasts } from "./shared/toast";
import { Dialog, Field } from "./shared/ui";

export const stops = [
  { key: "lines", title: "Lines", to: "/lines" },
  { key: "points", title: "Points", to: "/points" },
  { key: "timetable", title: "Timetable", to: "/timetable" },
  { key: "crossings", title: "Crossings", to: "/crossings" },
  { key: "checkout", title: "Checkout", to: "/checkout" },
  { key: "traffic", title: "Traffic", to: "/traffic" },
] as const;

/** What is the same on every screen: the route, the mode, undo, find or do. */
export function Shell() {
  const { data: site } = useSite();
  const { data: me } = useMe();
  const mode = useLivePart((live) => live.state.mode);
  const connected = useLivePart((live) => live.connected);
  const client = useQueryClient();
  const navigate = useNavigate();
  const path = useRouterState({ select: (s) => s.location.pathname });
  const [palette, setPalette] = useState(false);
  const [keys, setKeys] = useState(false);
  const [naming, setNaming] = useState(false);
  const [shelf, setShelf] = useState(false);
  const file = useRef<HTMLInputElement>(null);
  const page = useRef<HTMLElement>(null);
  const edit = useEdit();

  const refresh = () => client.invalidateQueries();
  const undo = () =>
    attempt(async () => {
      say("Taken back: " + (await post<EditAnswer>("/api/undo")).what);
      await refresh();
    });
  const redo = () =>
    attempt(async () => {
      say("Done again: " + (await post<EditAnswer>("/api/redo")).what);
      await refresh();
    });
  const run = (what: "start" | "stop") => attempt(() => post(`/api/run/${what}`, { links: [] }));
  const bringIn = async (list: FileList | null) => {
    const chosen = list?.[0];
    if (!chosen) return;
    await attempt(async () => {
      const answer = await postBody<EditAnswer>("/api/file/site.json", await chosen.text());
      const [, ...besides] = answer.what.split(". "); // the proofs and snapshots of a pack
      say([`The site was brought in from ${chosen.name}`, ...besides, "Ctrl Z takes the site back"].join(". ") + ".");
      await refresh();
      await navigate({ to: "/lines" });
    });
    if (file.current) file.current.value = "";
  };
  const actions: Action[] = [
    { title: "Lines: what is connected to what", run: () => void navigate({ to: "/lines" }) },
    { title: "Points: the maps of the devices", run: () => void navigate({ to: "/points" }) },
    { title: "Timetable: what is asked when", run: () => void navigate({ to: "/timetable" }) },
    { title: "Crossings: values from one device into another", run: () => void navigate({ to: "/crossings" }) },
    { title: "Checkout: prove points one by one", run: () => void navigate({ to: "/checkout" }) },
    { title: "Traffic: what goes over the wire, and what is wrong", run: () => void navigate({ to: "/traffic" }) },
    { title: "Start the run of every link", run: () => void run("start") },
    { title: "Stop every run", run: () => void run("stop") },
    { title: "Take the last edit back", keys: "Ctrl Z", run: () => void undo() },
    { title: "Do it again", keys: "Ctrl Shift Z", run: () => void redo() },
    {
      title: "Hand out the site as a file",
      run: () => {
        location.href = "/api/file/site.json";
      },
    },
    { title: "Bring in a site file or a pack…", run: () => file.current?.click() },
    { title: "Name the site…", run: () => setNaming(true) },
    { title: "Sites on this machine…", run: () => setShelf(true) },
    {
      title: "Hand over: the pack, and lists for other readers",
      run: () => void navigate({ to: "/checkout/handover" }),
    },
    { title: "As left: the site beside what it was", run: () => void navigate({ to: "/checkout/asleft" }) },
    { title: "Trends", run: () => void navigate({ to: "/checkout/trends" }) },
    { title: "Snapshots", run: () => void navigate({ to: "/checkout/snapshots" }) },
    { title: "Recordings of traffic", run: () => void navigate({ to: "/traffic/recordings" }) },
    {
      title: "Stand between two ends, or listen to a serial line",
      run: () => void navigate({ to: "/traffic/relays" }),
    },
    { title: "Lookouts: what is watched, and who is told", run: () => void navigate({ to: "/traffic/lookouts" }) },
    { title: "What does a number mean? The codebook", run: () => void navigate({ to: "/traffic/codebook" }) },
    { title: "Light or dark", run: toggleTheme },
    { title: "Users and certificate", run: () => void navigate({ to: "/users" }) },
    ...(me?.guarded
      ? [
          {
            title: `Sign out ${me.name}`,
            run: () =>
              void attempt(async () => {
                await post("/api/sign-out");
                location.assign("/");
              }),
          },
        ]
      : []),
    { title: "Keys of this screen", keys: "?", run: () => setKeys(true) },
  ];

  const tries = useMemo((): Action[] => {
    const names = new Map(site?.devices.map((d) => [d.id, d.name]));
    return (site?.links ?? []).map((link) => ({
      title: `Try the link to ${names.get(link.answering) ?? ""}`,
      run: () =>
        void attempt(async () => {
          await navigate({ to: "/lines/$kind/$id", params: { kind: "link", id: link.id } });
          await post(`/api/links/${link.id}/try`);
          await client.invalidateQueries({ queryKey: ["site"] });
        }),
    }));
  }, [site, navigate, client]);

  const ofLines: Action[] = (site?.lines ?? []).flatMap((line) => [
    {
      title: `Timetable of ${line.name}`,
      run: () => void navigate({ to: "/timetable", search: { line: line.id } as never }),
    },
    {
      title: `Start the run on ${line.name}`,
      run: () =>
        void attempt(() =>
          post("/api/run/start", { links: site?.links.filter((l) => l.line === line.id).map((l) => l.id) }),
        ),
    },
  ]);

  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const typing =
        e.target instanceof HTMLElement &&
        (e.target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(e.target.tagName));
      const ctrl = e.ctrlKey || e.metaKey;
      if (ctrl && e.key.toLowerCase() === "k") {
        e.preventDefault();
        setPalette(true);
      } else if (ctrl && e.key.toLowerCase() === "z" && !typing) {
        e.preventDefault();
        void (e.shiftKey ? redo() : undo());
      } else if (e.key === "?" && !typing) {
        setKeys(true);
      } else if (e.key === "Escape" && !typing && !e.defaultPrevented && !document.querySelector("[role=dialog]")) {
        // One step back: from an object to its screen.
        const up = path
          .split("/")
          .slice(0, path.startsWith("/traffic") || path.startsWith("/lines") ? 2 : -1)
          .join("/");
        if (up && up !== path) void navigate({ to: up });
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  });

  useEffect(() => {
    if (site) document.title = `${site.name} · Ferry`;
  }, [site]);

  const title =
    stops.find((stop) => path.startsWith(stop.to))?.title ??
    (path.startsWith("/users") ? "Users and certificate" : "Ferry");
  const points = site?.devices.reduce((n, d) => n + d.pointCount, 0) ?? 0;
  const plant = mode === "plant";
  return (
    <div
      className="flex h-full flex-col"
      style={plant ? { borderTop: "6px solid var(--plant)" } : undefined}
      data-mode={mode}
    >
      <a
        href="#page"
        className="button main sr-only fixed top-2 left-2 z-50 focus:not-sr-only focus:fixed focus:px-3 focus:py-2"
        onClick={(e) => {
          e.preventDefault();
          page.current?.focus();
        }}
      >
        Past the header
      </a>
      <header className="flex h-14 flex-none items-center gap-3 bg-bar px-4 text-[var(--bar-text)]">
        <Link to="/lines" className="flex items-center gap-2 text-[17px] font-bold" aria-label="Ferry, to the lines">
          <svg width="30" height="22" viewBox="0 0 30 22" aria-hidden>
            <path d="M2 2v18M28 2v18" stroke="#7fc4c9" strokeWidth="2.500" />
            <path d="M6 12h18l-3 6H9zM11 7h8v5h-8z" fill="#f3f0e8" />
          </svg>
          Ferry
        </Link>
        <div className="ml-1 w-[190px] min-w-[110px] shrink border-l border-white/20 pl-3">
          <div className="truncate text-[13.500px] font-semibold" title={site?.name}>
            {site?.name ?? "…"}
          </div>
          <div className="small truncate text-[var(--bar-text2)]">
            {site
              ? `${count(site.lines.length, "line")} · ${count(site.devices.length, "device")} · ${count(points, "point")}`
              : "reading the site"}
          </div>
        </div>
        <RouteBar path={path} />
        <Alarm />
        {!connected && (
          <span className="chip fault" role="status">
            no contact with Ferry
          </span>
        )}
        <button
          type="button"
          aria-label="Take back"
          title="Take back, Ctrl Z"
          disabled={!site?.canUndo}
          onClick={() => void undo()}
        >
          <Undo2 size={17} />
        </button>
        <button
          type="button"
          aria-label="Do again"
          title="Do again, Ctrl Shift Z"
          disabled={!site?.canRedo}
          onClick={() => void redo()}
        >
          <Redo2 size={17} />
        </button>
        <button
          type="button"
          className="small flex-none rounded-md border border-white/40 px-2 py-1 whitespace-nowrap"
          onClick={() => setPalette(true)}
        >
          <span className="max-[1180px]:hidden">Find or do… </span>Ctrl K
        </button>
        <ModeSwitch />
        <DropdownMenu.Root>
          <DropdownMenu.Trigger asChild>
            <button type="button" aria-label="More">
              <Menu size={19} />
            </button>
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content className="menu" align="end" sideOffset={8}>
              {actions.slice(4).map((action) => (
                <DropdownMenu.Item key={action.title} className="menu-item" onSelect={action.run}>
                  {action.title}
                </DropdownMenu.Item>
              ))}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      </header>
      {plant && <PlantLock />}
      <Notices />
      <main ref={page} id="page" tabIndex={-1} className="flex min-h-0 flex-1 outline-none">
        <h1 className="sr-only">{title}</h1>
        <Outlet />
      </main>
      <input
        ref={file}
        type="file"
        accept=".json,application/json"
        className="hidden"
        aria-label="Site file"
        onChange={(e) => void bringIn(e.target.files)}
      />
      <Palette open={palette} onClose={() => setPalette(false)} actions={[...actions, ...ofLines, ...tries]} />
      <KeysDialog open={keys} onClose={() => setKeys(false)} path={path} />
      <SitesDialog open={shelf} onClose={() => setShelf(false)} />
      <Dialog open={naming} onClose={() => setNaming(false)} title="The site">
        {site && (
          <>
            <Field
              label="Name"
              value={site.name}
              onCommit={(name) =>
                edit("renamed the site", [
                  { kind: "site", id: "", base: site.versions["site:"] ?? 0, after: { name, remark: site.remark } },
                ])
              }
            />
            <Field
              label="Remark"
              value={site.remark}
              onCommit={(remark) =>
                edit("changed the site's remark", [
                  { kind: "site", id: "", base: site.versions["site:"] ?? 0, after: { name: site.name, remark } },
                ])
              }
            />
          </>
        )}
      </Dialog>
      <Toasts />
    </div>
  );
}

/** The route: six stops in the order of the work, each with how many findings wait there. */
const RouteBar = memo(function RouteBar({ path }: { path: string }) {
  const findings = useLivePart((live) => live.findings);
  const waitingAt = useMemo(() => {
    const at = new Map<string, Finding[]>();
    for (const f of findings) {
      if (f.severity === "note") continue;
      const list = at.get(f.where);
      if (list) list.push(f);
      else at.set(f.where, [f]);
    }
    return at;
  }, [findings]);
  return (
    <nav aria-label="Route" className="flex flex-1 justify-center max-[1180px]:text-[13px]">
      {stops.map((stop, i) => {
        const waiting = waitingAt.get(stop.key) ?? [];
        const here = path.startsWith(stop.to);
        const worst = waiting.some((f) => f.severity === "fault") ? "fault" : "doubt";
        return (
          <Link
            key={stop.key}
            to={stop.to}
            className="relative flex w-[86px] flex-none flex-col items-center gap-[3px] max-[1180px]:w-[70px]"
            aria-current={here ? "page" : undefined}
          >
            {i > 0 && (
              <span
                aria-hidden
                className="absolute top-[10px] right-1/2 mr-[11px] border-t-2 border-white/25"
                style={{ width: "calc(100% - 22px)" }}
              />
            )}
            <span
              className="flex h-[21px] w-[21px] items-center justify-center text-[12px] font-bold"
              style={
                waiting.length
                  ? {
                      background: worst === "fault" ? "#bd3d27" : "#e0a33a",
                      color: worst === "fault" ? "#fff" : "#15252d",
                      borderRadius: worst === "fault" ? 5 : 11,
                      minWidth: 21,
                    }
                  : {
                      border: "2px solid rgb(255 255 255 / 0.5)",
                      borderRadius: 11,
                      background: here ? "#7fc4c9" : undefined,
                    }
              }
              aria-label={waiting.length ? count(waiting.length, "finding") : undefined}
            >
              {waiting.length || ""}
            </span>
            <span className={"text-[13.500px] " + (here ? "font-bold" : "text-[var(--bar-text2)]")}>{stop.title}</span>
          </Link>
        );
      })}
    </nav>
  );
});

/** What lookouts see now: a mark that every screen shows, and a sound when one begins that wants it. */
function Alarm() {
  const open = useLivePart((live) => live.open);
  const heard = useRef<Set<string>>(undefined);
  useEffect(() => {
    const begun = open.filter((e) => e.sound && heard.current && !heard.current.has(e.id));
    heard.current = new Set(open.map((e) => e.id));
    if (begun.length > 0) sound();
  }, [open]);
  if (open.length === 0) return null;
  return (
    <span role="status" className="flex-none">
      <Link
        to="/traffic/lookouts"
        className="chip fault flex items-center gap-1"
        title={open.map((e) => `${e.name}: ${e.says}`).join("\n")}
        data-alarm={open.length}
      >
        <Bell size={14} aria-hidden />
        {open.length}
        <span className="sr-only"> seen by lookouts now</span>
      </Link>
    </span>
  );
}

/** What was found when Ferry was started that somebody has to know; it stays until it is closed. */
function Notices() {
  const { data } = useQuery({ queryKey: ["notices"], queryFn: () => get<NoticesView>("/api/notices") });
  const [closed, setClosed] = useState(false);
  if (closed || !data?.notices.length) return null;
  return (
    <div className="notice doubt m-3 mb-0 flex flex-none items-start gap-3" role="alert">
      <span className="flex-1">
        {data.notices.map((text) => (
          <span key={text} className="block">
            {text}
          </span>
        ))}
      </span>
      <button type="button" className="font-semibold underline" onClick={() => setClosed(true)}>
        Close
      </button>
    </div>
  );
}
