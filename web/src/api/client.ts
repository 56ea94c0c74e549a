import type { components } from "./schema";

type Schemas = components["schemas"];
export type Farm = Schemas["Farm"];
export type Run = Schemas["Run"];
export type FarmNode = Schemas["Node"];
export type Active = Schemas["Active"];
export type Member = Schemas["Member"];
export type Change = Schemas["Change"];
export type Me = Schemas["Me"];
export type NeedHand = Schemas["NeedHand"];
export type HistoryLine = Schemas["HistoryLine"];
export type Pool = Schemas["Pool"];
export type Key = Schemas["Key"];
export type NewKey = Schemas["NewKey"];
export type NodeAct = Schemas["NodeAct"];
export type NodeChange = Schemas["NodeChange"];
export type NodesActed = Schemas["NodesActed"];
export type NodeVersion = Schemas["NodeVersion"];
export type Hours = Schemas["Hours"];
export type Picked = Schemas["Picked"];
export type FrameSets = Schemas["FrameSets"];
export type Usage = Schemas["Usage"];
export type Timeline = Schemas["Timeline"];
export type TimelineSpan = Schemas["TimelineSpan"];
export type LogLine = Schemas["LogLine"];
export type NodeLog = Schemas["NodeLog"];
export type Work = Schemas["Work"];
export type NodeTest = Schemas["NodeTest"];
export type Stay = Schemas["Stay"];
export type StayDone = Schemas["StayDone"];
export type RunChange = Schemas["RunChange"];
export type RunChanged = Schemas["RunChanged"];
export type Licence = Schemas["Licence"];
export type Place = Schemas["Place"];
export type Timings = Schemas["Timings"];
export type Queue = Schemas["QueuePage"];

/** What of runs, nodes and the farm is not as it was. */
export type Piece = Pick<Change, "seq"> &
  Partial<Pick<Change, "needs_a_hand">> & {
    facts?: Partial<Farm["facts"]>;
    runs?: Patch<Run>[];
    nodes?: Patch<FarmNode>[];
  };
export type Patch<T extends { id: number }> = Pick<T, "id"> & {
  [K in keyof T]?: T[K] extends Run["sets"] | Run["forecast"] ? Partial<T[K]> : T[K];
};

/** The event that tells the page that nobody is signed in any more. */
export const signedOut = "vexillum-signed-out";

/** An error as the service told it: one sentence for a person. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly field?: string,
  ) {
    super(detail);
  }
}

async function call(method: string, path: string, body?: unknown): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(path, {
      method,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Error("The service cannot be reached.");
  }
  if (response.status === 401 && method + path !== "POST/api/v1/session") {
    window.dispatchEvent(new Event(signedOut));
  }
  if (!response.ok) {
    const problem = (await response.json().catch(() => null)) as Schemas["Problem"] | null;
    throw new Problem(response.status, problem?.detail ?? `The service answered ${response.status}.`, problem?.field);
  }
  return response;
}

async function get<T>(path: string): Promise<T> {
  return (await call("GET", path)).json() as Promise<T>;
}

/** Who is signed in, or null. */
export async function getMe(): Promise<Me | null> {
  try {
    return await get<Me>("/api/v1/me");
  } catch (error) {
    if (error instanceof Problem && error.status === 401) {
      return null;
    }
    throw error;
  }
}

export async function signIn(name: string, password: string): Promise<Me> {
  return (await call("POST", "/api/v1/session", { name, password })).json() as Promise<Me>;
}

export async function signOut(): Promise<void> {
  await call("DELETE", "/api/v1/session");
}

export const getFarm = () => get<Farm>("/api/v1/farm");
export const getServices = () => get<Member[]>("/api/v1/services");
export const getRun = (run: number) => get<Run>(`/api/v1/runs/${run}`);
export const getQueue = (search: URLSearchParams) => get<Queue>(`/api/v1/queue?${search}`);
export const getTimings = (run: number, after: number) => get<Timings>(`/api/v1/runs/${run}/timings?after=${after}`);
export const getHistory = (run: number, after: number) =>
  get<HistoryLine[]>(`/api/v1/runs/${run}/history?limit=100&after=${after}`);

export const getNode = (node: number) => get<FarmNode>(`/api/v1/nodes/${node}`);
export const getNodeHistory = (node: number) => get<HistoryLine[]>(`/api/v1/nodes/${node}/history?limit=40`);
export const getNodeVersions = (node: number) => get<NodeVersion[]>(`/api/v1/nodes/${node}/versions`);
export const getUsage = (node: number, over: string) => get<Usage>(`/api/v1/nodes/${node}/usage?over=${over}`);
export const getTimeline = (node: number, over: string) => get<Timeline>(`/api/v1/nodes/${node}/timeline?over=${over}`);

/** The newest lines that a node process and its renderers said. */
export function getLog(
  node: number,
  query: { of?: string; lease?: string; search?: string; before?: string },
): Promise<NodeLog> {
  const words = new URLSearchParams({ limit: "400" });
  for (const [name, value] of Object.entries(query)) {
    if (value) {
      words.set(name, value);
    }
  }
  return get<NodeLog>(`/api/v1/nodes/${node}/log?${words}`);
}

export const getTests = (node: number) => get<NodeTest[]>(`/api/v1/nodes/${node}/tests`);
export const getStays = () => get<Stay[]>("/api/v1/stays");
export const getPicked = (where: string) => get<Picked>(`/api/v1/picked-nodes?where=${encodeURIComponent(where)}`);
export const getPools = () => get<Pool[]>("/api/v1/pools");
export const getKeys = () => get<Key[]>("/api/v1/keys");

export const getLicences = () => get<Licence[]>("/api/v1/licences");
export const getPlaces = () => get<Place[]>("/api/v1/places");
export const getWhy = (run: number, of: { node: string } | { frame: string }) =>
  get<Schemas["Why"]>(`/api/v1/runs/${run}/why?${new URLSearchParams(of)}`);

async function post<T>(path: string, body: unknown): Promise<T> {
  return (await call("POST", path, body)).json() as Promise<T>;
}

export const actOnNodes = (act: NodeAct) => post<NodesActed>("/api/v1/node-acts", act);
export const changeNodes = (change: NodeChange) => post<NodesActed>("/api/v1/node-changes", change);
export const testNodes = (nodes: number[]) => post<NodeTest[]>("/api/v1/node-tests", { nodes });
export const changeRun = async (run: number, change: RunChange) =>
  (await call("PATCH", `/api/v1/runs/${run}`, change)).json() as Promise<RunChanged>;
export const setLicence = (name: string, count: number | null) =>
  call("PUT", `/api/v1/licences/${encodeURIComponent(name)}`, { count });
export const setPlaceLoads = (place: Place, loads: number) =>
  call("PATCH", `/api/v1/places/${encodeURIComponent(place.name)}`, { loads });
export const setStay = async (stay: Stay) => (await call("PUT", "/api/v1/stays", stay)).json() as Promise<StayDone>;
export const makeKey = (key: NewKey) => post<Key>("/api/v1/keys", key);

export async function revokeKey(id: string): Promise<void> {
  await call("DELETE", `/api/v1/keys/${id}`);
}

/** The priorities of runs, the most urgent first. */
export const levels = ["urgent", "high", "normal", "low", "filler"];

export type Steering = "hold" | "release" | "cancel" | "retry";

export async function steer(run: number, what: Steering, reason = ""): Promise<Run> {
  return (
    await call("POST", `/api/v1/runs/${run}/${what}${reason ? `?${new URLSearchParams({ reason })}` : ""}`)
  ).json() as Promise<Run>;
}

export const thumbnail = (run: number, frame: number) => `/api/v1/runs/${run}/frames/${frame}/thumbnail`;
export const picture = (run: number, frame: number, pass = "") =>
  `/api/v1/runs/${run}/frames/${frame}/picture${pass && `?pass=${pass}`}`;
export const contactSheet = (run: number) => `/api/v1/runs/${run}/contact-sheet`;

const ranks = ["viewer", "artist", "wrangler", "admin"];

/** Whether somebody may steer nodes and set them up. */
export const isWrangler = (me: Me) => ranks.indexOf(me.role) >= 2;

/** Whether somebody may hold, release, cancel or retry a run. */
export function maySteer(me: Me, run: Run): boolean {
  return ranks.indexOf(me.role) >= 2 || (me.role === "artist" && run.owner === me.name);
}
