import { queryOptions, useQuery, useQueryClient, type QueryClient } from "@tanstack/react-query";
import type {
  EditAnswer,
  EditRequest,
  MeView,
  PointsView,
  PointView,
  Problem,
  SheetsView,
  SiteDelta,
  SiteView,
  StatsView,
  TimetableView,
} from "./types.gen";

/** An error in the one shape that Ferry's interface has. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super([problem.where ? problem.where + ": " : "", problem.sentence, problem.do ? " " + problem.do : ""].join(""));
  }
}

/** Names this window in the journal. */
const windowName = (() => {
  let name = sessionStorage.getItem("ferry-window");
  if (!name) {
    name = "window " + Math.random().toString(36).slice(2, 6);
    sessionStorage.setItem("ferry-window", name);
  }
  return name;
})();

/** Who works at this machine: a name is enough where nobody signs in. */
export const person = {
  name: () => localStorage.getItem("ferry-person") ?? "",
  set: (name: string) => localStorage.setItem("ferry-person", name),
};

/** Told when the server no longer knows who this is. */
export const signedOut = new Set<() => void>();

/** How long a body may be, in characters, that is still sent when the page is left. */
const mostKept = 8000;

async function call<T>(method: string, path: string, body?: BodyInit): Promise<T> {
  let response: Response;
  try {
    response = await fetch(path, {
      method,
      body,
      // What was just typed arrives even where the page is left in the same moment. Browsers
      // bound what they send so.
      keepalive: typeof body === "string" && body.length < mostKept,
      headers: {
        "X-Ferry-Window": encodeURIComponent(person.name() || windowName),
        ...(body ? { "Content-Type": "application/json" } : {}),
      },
    });
  } catch {
    throw new ProblemError({
      code: "offline",
      sentence: "Ferry does not answer.",
      do: "Look whether the program still runs; nothing you typed is lost.",
    });
  }
  if (response.status === 401 && path !== "/api/sign-in") signedOut.forEach((tell) => tell());
  const text = await response.text();
  const data: unknown = text ? JSON.parse(text) : null;
  if (!response.ok) throw new ProblemError(data as Problem);
  return data as T;
}

export const get = <T>(path: string) => call<T>("GET", path);

/** Edits that were not answered yet. */
const unanswered = new Set<Promise<unknown>>();

/** Has whatever is done next wait for an edit, which itself must not wait for anything that is done so. */
export function awaited<T>(edit: Promise<T>): Promise<T> {
  const answered = () => unanswered.delete(edit);
  unanswered.add(edit);
  edit.then(answered, answered);
  return edit;
}

/** What ends something, locks it or takes a release back: that is never kept waiting. */
function ends(path: string, body: unknown) {
  const { mode, minutes } = body as { mode?: string; minutes?: number };
  return path.endsWith("/stop") || path === "/api/sign-out" || mode === "bench" || minutes === 0;
}

/**
 * Has something done. A field is left in the moment in which a button is pressed: what was typed
 * into it comes first, and nothing is done with what stood there before.
 */
export async function post<T>(path: string, body: unknown = {}) {
  while (unanswered.size && !ends(path, body)) {
    const answers = await Promise.allSettled(unanswered);
    if (answers.some((a) => a.status === "rejected"))
      throw new ProblemError({
        code: "edit-refused",
        sentence: "What was changed just before was not taken, so this was not done.",
        do: "Look at that first, then do it again.",
      });
  }
  return call<T>("POST", path, JSON.stringify(body));
}
export const postBody = <T>(path: string, body: Blob | string) => call<T>("POST", path, body);

export const problemOf = (error: unknown): Problem =>
  error instanceof ProblemError
    ? error.problem
    : { code: "internal", sentence: error instanceof Error ? error.message : String(error) };

/** The site. Only what changed is sent to a window that has it already, and the rest stays the same objects. */
export function useSite() {
  const client = useQueryClient();
  return useQuery({ queryKey: ["site"], queryFn: () => fetchSite(client), structuralSharing: false });
}

type Member = Record<string, unknown>;
const keyOfList: Record<string, string> = { routes: "link", load: "link", standIns: "device" };
/** Which view each site is, to ask for what changed since. */
const revOf = new WeakMap<object, string>();

async function fetchSite(client: QueryClient): Promise<SiteView> {
  const old = client.getQueryData<SiteView>(["site"]);
  const delta = await get<SiteDelta>(`/api/site?since=${(old && revOf.get(old)) ?? ""}`);
  const site = delta.rest as unknown as Record<string, unknown>;
  for (const [list, news] of Object.entries(delta.lists)) {
    const key = keyOfList[list] ?? "id";
    const before = (old as unknown as Record<string, Member[]> | undefined)?.[list] ?? [];
    const changed = new Map((news.changed as unknown as Member[]).map((m) => [m[key], m]));
    if (news.ids) {
      const known = new Map(before.map((m) => [m[key], m]));
      site[list] = news.ids.map((id) => changed.get(id) ?? known.get(id)).filter(Boolean);
    } else site[list] = changed.size ? before.map((m) => changed.get(m[key]) ?? m) : before;
  }
  revOf.set(site, delta.rev);
  return site as unknown as SiteView;
}
/** The map of a device. What this window has already is not sent again: only the rows that changed are. */
export function usePoints(device: string | undefined, map = "") {
  return useQuery({
    ...pointsQuery(useQueryClient(), device ?? "", map),
    enabled: !!device,
    placeholderData: (old) => (old?.device === device && (!map || old?.map === map) ? old : undefined),
  });
}

/** Where the interface has something of the map of a device. */
export const mapPath = (points: { device: string; map: string }, what: string, more = "") =>
  `/api/devices/${points.device}/${what}?map=${points.map}${more}`;

/** How a map is read, for whoever asks for it: that of the device itself, or the one named. */
export function pointsQuery(client: QueryClient, device: string, map = "") {
  const fetchPoints = async (): Promise<PointsView> => {
    const old = client.getQueryData<PointsView>(["points", device, map]);
    if (old) {
      const news = await get<PointsView>(
        mapPath({ device, map }, "points", `&since=${old.seq}&count=${old.rows.length}`),
      );
      if (!news.partial) return news;
      const changed = new Map(news.rows.map((r) => [r.id, r]));
      let met = 0;
      const rows =
        changed.size === 0
          ? old.rows
          : old.rows.map((r) => {
              const now = changed.get(r.id);
              if (now) met++;
              return now ?? r;
            });
      // A row that is not known here is another point in the place of one: everything is read again.
      if (met === changed.size) return { ...news, rows };
    }
    return get<PointsView>(mapPath({ device, map }, "points"));
  };
  // The rows that stay are kept as they are; comparing them all would cost more than it saves.
  return queryOptions({ queryKey: ["points", device, map], queryFn: fetchPoints, structuralSharing: false });
}
export const usePoint = (id: string | undefined, at: number) =>
  useQuery({
    queryKey: ["point", id, at],
    queryFn: () => get<PointView>(`/api/points/${id}`),
    enabled: !!id,
    placeholderData: (old) => (old?.point.id === id ? old : undefined),
  });
export const useSheets = () => useQuery({ queryKey: ["sheets"], queryFn: () => get<SheetsView>("/api/datasheets") });
export const useMe = () => useQuery({ queryKey: ["me"], queryFn: () => get<MeView>("/api/me") });
/** The plan with the requests of one line, or of the fullest. */
export const useTimetable = (line: string | undefined) =>
  useQuery({
    queryKey: ["timetable", line ?? ""],
    queryFn: () => get<TimetableView>(`/api/timetable?line=${line ?? ""}`),
    placeholderData: (old) => old,
  });
/** What was measured of the requests of a line. */
export const useStats = (line: string | undefined) =>
  useQuery({
    queryKey: ["stats", line],
    queryFn: () => get<StatsView>(`/api/timetable/stats?line=${line}`),
    enabled: !!line,
    refetchInterval: 1000,
    placeholderData: (old) => old,
  });

export type Kind =
  | "site"
  | "line"
  | "device"
  | "point"
  | "link"
  | "crossing"
  | "list"
  | "datasheet"
  | "structure"
  | "lookout"
  | "outlet";
export interface ObjectEdit {
  kind: Kind;
  id: string;
  parent?: string;
  after: unknown;
  base: number;
}

/** Sends edits as one step. */
export const sendEdit = (what: string, edits: ObjectEdit[]) =>
  awaited(call<EditAnswer>("POST", "/api/edit", JSON.stringify({ what, edits } as EditRequest)));

/** Returns a function that has what is shown of the site be read anew. */
export function useRefresh() {
  const client = useQueryClient();
  return () => client.invalidateQueries({ queryKey: ["site"] });
}

/** Returns a function that sends edits as one step and refreshes what is shown. */
export function useEdit() {
  const refresh = useRefresh();
  return async (what: string, edits: ObjectEdit[]) => {
    const answer = await sendEdit(what, edits);
    await refresh();
    return answer;
  };
}

/** Makes an id for a new object; the store refuses one that is taken. */
export const newId = () => crypto.getRandomValues(new Uint32Array(2)).reduce((text, n) => text + n.toString(36), "");
