import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Farm = Schemas["Farm"];
export type Run = Schemas["Run"];
export type FarmNode = Schemas["Node"];
export type Active = Schemas["Active"];
export type Member = Schemas["Member"];
export type Me = Schemas["Me"];
export type NeedHand = Schemas["NeedHand"];
export type HistoryLine = Schemas["HistoryLine"];
export type Pool = Schemas["Pool"];
export type Key = Schemas["Key"];
export type NewKey = Schemas["NewKey"];
export type PlaceSeen = Schemas["PlaceSeen"];
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
export type Recipe = Schemas["Recipe"];
export type RecipeDetail = Schemas["RecipeDetail"];
export type RecipeVersion = Schemas["RecipeVersion"];
export type FileMistake = Schemas["FileMistake"];
export type RecipeTrial = Schemas["RecipeTrial"];
export type TrialLine = Schemas["TrialLine"];
export type Folder = Schemas["Folder"];
export type Scene = Schemas["Scene"];
export type SceneValue = Schemas["SceneValue"];
export type Estimate = Schemas["Estimate"];
export type Preflight = Schemas["Preflight"];
export type Preset = Schemas["Preset"];
export type PreflightRule = Schemas["PreflightRule"];
export type Rate = Schemas["Rate"];
export type Project = Schemas["Project"];
export type Person = Schemas["Person"];
export type Receipt = Schemas["Receipt"];
export type RunDifferences = Schemas["RunDifferences"];
export type Timings = Schemas["Timings"];
export type Queue = Schemas["QueuePage"];

/** What the live stream tells, by the name of the event. */
export type Events = Schemas["Events"];

/** The event that tells the page that nobody is signed in any more. */
export const signedOut = "vexillum-signed-out";

/** An error as the service told it: one sentence for a person. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly field?: string,
    readonly mistakes: FileMistake[] = [],
  ) {
    super(detail);
  }
}

const api = createClient<paths>({ fetch: reach });

/** Like fetch, but an error of the line is told in our words. */
async function reach(request: Request): Promise<Response> {
  try {
    return await fetch(request);
  } catch {
    throw new Error("The service cannot be reached.");
  }
}

interface Answer<T> {
  data?: T;
  error?: Schemas["Problem"];
  response: Response;
}

/** What was asked for, or the Problem as an error. */
async function answer<T>(asked: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await asked;
  if (!response.ok) {
    if (response.status === 401 && !response.url.endsWith("/api/v1/session")) {
      window.dispatchEvent(new Event(signedOut));
    }
    const detail = error?.detail ?? `The service answered ${response.status}.`;
    throw new Problem(response.status, detail, error?.field, error?.mistakes);
  }
  return data as T;
}

/** Who is signed in, or null. */
export async function getMe(): Promise<Me | null> {
  try {
    return await answer(api.GET("/api/v1/me"));
  } catch (error) {
    if (error instanceof Problem && error.status === 401) {
      return null;
    }
    throw error;
  }
}

export const signIn = (name: string, password: string) =>
  answer(api.POST("/api/v1/session", { body: { name, password } }));
export const signOut = () => answer(api.DELETE("/api/v1/session"));

export const getFarm = () => answer(api.GET("/api/v1/farm"));
export const getServices = () => answer(api.GET("/api/v1/services"));
export const getRun = (run: number) => answer(api.GET("/api/v1/runs/{run}", { params: { path: { run } } }));
export const getSteps = (run: number) => answer(api.GET("/api/v1/runs/{run}/steps", { params: { path: { run } } }));
export type TroubleGroup = Schemas["TroubleGroup"];
export type NodeTrouble = Schemas["NodeTrouble"];
export type Attempt = Schemas["Attempt"];
/** What failed on a node, beside what came of the same frames on others. */
export const getNodeTrouble = (node: number) =>
  answer(api.GET("/api/v1/nodes/{node}/trouble", { params: { path: { node } } }));
/** What failed in the last hours, or ever, put together. */
export const getTrouble = (by: string, hours: number) =>
  answer(
    api.GET("/api/v1/trouble", {
      params: {
        query: {
          by: by as "cause",
          ...(hours > 0 && { since: `${new Date(Date.now() - 3_600_000 * hours).toISOString().slice(0, 19)}Z` }),
        },
      },
    }),
  );
export const retryParked = (body: Schemas["Retrying"]) => answer(api.POST("/api/v1/retries", { body }));
export const actOnFrames = (run: number, body: Schemas["FramesAct"]) =>
  answer(api.POST("/api/v1/runs/{run}/frame-acts", { params: { path: { run } }, body }));
export type HandAct = Schemas["HandAct"];
export const actOnHand = (hand: number, what: Omit<HandAct, "hands">) =>
  answer(api.POST("/api/v1/hand-acts", { body: { ...what, hands: [hand] } }));
export type PastHand = Schemas["PastHand"];
export const getPastHands = (before: number) =>
  answer(api.GET("/api/v1/hands/history", { params: { query: { before, limit: 50 } } }));
export type Channel = Schemas["Channel"];
export type ChannelSet = Schemas["ChannelSet"];
export type SentNotice = Schemas["SentNotice"];
export const getChannels = () => answer(api.GET("/api/v1/channels"));
const ofChannel = (channel: string) => ({ params: { path: { channel } } });
/** The header of a change to what is still as it was seen, or that must not be there yet. */
const asSeen = (etag: string | undefined) => (etag ? { "If-Match": etag } : { "If-None-Match": "*" as const });
/** Changes a channel that is still as it was seen, or makes one. */
export const setChannel = (channel: string, etag: string | undefined, body: ChannelSet) =>
  answer(api.PUT("/api/v1/channels/{channel}", { params: { path: { channel }, header: asSeen(etag) }, body }));
export const dropChannel = (channel: string) => answer(api.DELETE("/api/v1/channels/{channel}", ofChannel(channel)));
export const tryChannel = (channel: string) => answer(api.POST("/api/v1/channels/{channel}/trial", ofChannel(channel)));
export const getNotices = (before: number) =>
  answer(api.GET("/api/v1/notices", { params: { query: { before, limit: 30 } } }));
export const sendNoticeAgain = (notice: number) =>
  answer(api.POST("/api/v1/notices/{notice}/again", { params: { path: { notice } } }));
export const getOnCall = () => answer(api.GET("/api/v1/on-call"));
export const setOnCall = (calendar: string) =>
  answer(
    api.PUT("/api/v1/on-call.ics", {
      body: calendar,
      bodySerializer: (text: string) => text,
      headers: { "Content-Type": "text/calendar" },
    }),
  );
export type Night = Schemas["Night"];
/** The night that began on a day, or the last, by the clock of the page. */
export const getNight = (from: string, to: string, day: string) =>
  answer(
    api.GET("/api/v1/night", {
      params: {
        query: { from, to, zone: Intl.DateTimeFormat().resolvedOptions().timeZone, ...(day && { day }) },
      },
    }),
  );
/** What went wrong in the last hours. */
export const getLately = (hours: number) => {
  const until = new Date();
  const since = new Date(until.getTime() - hours * 3_600_000);
  return answer(
    api.GET("/api/v1/night", { params: { query: { since: since.toISOString(), until: until.toISOString() } } }),
  );
};
export type QueueSearch = NonNullable<paths["/api/v1/queue"]["get"]["parameters"]["query"]>;
export const getQueue = (query: QueueSearch) => answer(api.GET("/api/v1/queue", { params: { query } }));
/** How a run differs from the one of its job before; null where there is none. */
export async function getDifferences(run: number): Promise<RunDifferences | null> {
  try {
    return await answer(api.GET("/api/v1/runs/{run}/differences", { params: { path: { run } } }));
  } catch (error) {
    if (error instanceof Problem && error.status === 404) {
      return null;
    }
    throw error;
  }
}
export const getTimings = (run: number, after: number) =>
  answer(api.GET("/api/v1/runs/{run}/timings", { params: { path: { run }, query: { after } } }));
export const getHistory = (run: number, after: number) =>
  answer(api.GET("/api/v1/runs/{run}/history", { params: { path: { run }, query: { limit: 100, after } } }));

const ofNode = (node: number) => ({ params: { path: { node } } });
export const getNode = (node: number) => answer(api.GET("/api/v1/nodes/{node}", ofNode(node)));
export const getNodeHistory = (node: number) =>
  answer(api.GET("/api/v1/nodes/{node}/history", { params: { path: { node }, query: { limit: 40 } } }));
export const getNodeVersions = (node: number) => answer(api.GET("/api/v1/nodes/{node}/versions", ofNode(node)));
export type Over = NonNullable<NonNullable<paths["/api/v1/nodes/{node}/usage"]["get"]["parameters"]["query"]>["over"]>;
export const getUsage = (node: number, over: Over) =>
  answer(api.GET("/api/v1/nodes/{node}/usage", { params: { path: { node }, query: { over } } }));
export const getTimeline = (node: number, over: Over) =>
  answer(api.GET("/api/v1/nodes/{node}/timeline", { params: { path: { node }, query: { over } } }));

export type LogSearch = NonNullable<paths["/api/v1/nodes/{node}/log"]["get"]["parameters"]["query"]>;
/** The newest lines that a node process and its renderers said. */
export const getLog = (node: number, query: LogSearch) =>
  answer(api.GET("/api/v1/nodes/{node}/log", { params: { path: { node }, query: { limit: 400, ...query } } }));

export const getTests = (node: number) => answer(api.GET("/api/v1/nodes/{node}/tests", ofNode(node)));
export const getStays = () => answer(api.GET("/api/v1/stays"));
export const getPicked = (where: string) => answer(api.GET("/api/v1/picked-nodes", { params: { query: { where } } }));
export const getPools = () => answer(api.GET("/api/v1/pools"));
export const getKeys = () => answer(api.GET("/api/v1/keys"));
export const getLicences = () => answer(api.GET("/api/v1/licences"));
export const getRecipes = (dropped: boolean) => answer(api.GET("/api/v1/recipes", { params: { query: { dropped } } }));
export const getRecipe = (recipe: string, version?: number) =>
  answer(api.GET("/api/v1/recipes/{recipe}", { params: { path: { recipe }, query: { version } } }));
export const getProjects = () => answer(api.GET("/api/v1/projects"));
export const setProject = (project: string, body: Schemas["ProjectChange"], etag?: string) =>
  answer(
    api.PATCH("/api/v1/projects/{project}", { params: { path: { project }, header: { "If-Match": etag } }, body }),
  );
export const setPool = (pool: string, body: Schemas["NewPool"]) =>
  answer(api.PUT("/api/v1/pools/{pool}", { params: { path: { pool } }, body }));
export const getPreflightRule = () => answer(api.GET("/api/v1/preflight-rule"));
export const setPreflightRule = (body: PreflightRule) =>
  answer(api.PUT("/api/v1/preflight-rule", { params: { header: { "If-Match": body.etag } }, body }));
export const getPresets = () => answer(api.GET("/api/v1/presets"));
const ofPreset = (p: Preset) => ({ ...(p.project && { project: p.project }), ...(p.recipe && { recipe: p.recipe }) });
/** Adds a version to a preset that is still as it was seen, or makes the preset. */
export const setPreset = (preset: Preset, text: string) =>
  answer(
    api.PUT("/api/v1/presets/{preset}", {
      params: {
        path: { preset: preset.name },
        query: ofPreset(preset),
        header: { "If-Match": preset.etag || undefined },
      },
      body: { text },
    }),
  );
export const dropPreset = (preset: Preset) =>
  answer(
    api.DELETE("/api/v1/presets/{preset}", { params: { path: { preset: preset.name }, query: ofPreset(preset) } }),
  );
export const choosePreset = (of: Preset, name: string) =>
  answer(api.PUT("/api/v1/preset-choice", { body: { ...ofPreset(of), name } }));
export const getRates = () => answer(api.GET("/api/v1/rates"));
export const setRate = (body: Rate) =>
  answer(api.PUT("/api/v1/rates", { params: { header: asSeen(body.etag) }, body }));
export const getPeople = () => answer(api.GET("/api/v1/people"));
export const setPerson = (person: string, body: Schemas["PersonChange"]) =>
  answer(api.PATCH("/api/v1/people/{person}", { params: { path: { person } }, body }));
export const removePerson = (person: string) =>
  answer(api.DELETE("/api/v1/people/{person}", { params: { path: { person } } }));
export const getPlaces = () => answer(api.GET("/api/v1/places"));
const inProject = (project: string, path: string) => ({ params: { path: { project }, query: { path } } });
export const getFolder = (project: string, path: string) =>
  answer(api.GET("/api/v1/projects/{project}/scenes", inProject(project, path)));
/** What a scene says, read by a recipe or by the one of its ending. */
export const getScene = (project: string, path: string, recipe: string) =>
  answer(
    api.GET("/api/v1/projects/{project}/scene", {
      params: { path: { project }, query: { path, ...(recipe && { recipe }) } },
    }),
  );
/** Submits all runs of a job file or, under the same key, what was submitted before. */
export const submitJobs = (body: Schemas["SubmitJobs"], key?: string) =>
  answer(api.POST("/api/v1/jobs", { params: { header: { "Idempotency-Key": key } }, body }));
export const submitFinal = (run: number, dry: boolean) =>
  answer(api.POST("/api/v1/runs/{run}/final", { params: { path: { run } }, body: { dry_run: dry } }));
export const mended = (run: number, redo: boolean, dry: boolean) =>
  answer(api.POST("/api/v1/runs/{run}/mended", { params: { path: { run } }, body: { redo, dry_run: dry } }));
export const estimate = (body: Schemas["Estimating"]) => answer(api.POST("/api/v1/estimates", { body }));
export const preflight = (body: Schemas["Preflighting"]) => answer(api.POST("/api/v1/preflights", { body }));
export const getWhy = (run: number, query: { node?: string; frame?: number }) =>
  answer(api.GET("/api/v1/runs/{run}/why", { params: { path: { run }, query } }));

export const actOnNodes = (body: NodeAct) => answer(api.POST("/api/v1/node-acts", { body }));
export const undoNodes = (undo: string) => answer(api.POST("/api/v1/node-undos", { body: { undo } }));
export const changeNodes = (body: NodeChange) => answer(api.POST("/api/v1/node-changes", { body }));
export const testNodes = (nodes: number[]) => answer(api.POST("/api/v1/node-tests", { body: { nodes } }));
export const probeNodes = (nodes: number[]) => answer(api.POST("/api/v1/node-probes", { body: { nodes } }));
export const changeRun = (run: number, body: RunChange) =>
  answer(api.PATCH("/api/v1/runs/{run}", { params: { path: { run } }, body }));
export const setLicence = (licence: string, count: number | null) =>
  answer(api.PUT("/api/v1/licences/{licence}", { params: { path: { licence } }, body: { count } }));
export const setPlace = (place: string, paths: Record<string, string>, strand = false) =>
  answer(api.PATCH("/api/v1/places/{place}", { params: { path: { place } }, body: { paths, strand } }));
export const setPlaceLoads = (place: Place, loads: number) =>
  answer(api.PATCH("/api/v1/places/{place}", { params: { path: { place: place.name } }, body: { loads } }));
export const checkRecipe = (text: string) => answer(api.POST("/api/v1/recipe-check", { body: { text } }));
/** Adds a version to a recipe that is still as it was seen, or makes the recipe. */
export const setRecipe = (recipe: string, text: string, note: string, etag?: string) =>
  answer(
    api.PUT("/api/v1/recipes/{recipe}", {
      params: { path: { recipe }, header: { "If-Match": etag } },
      body: { text, note },
    }),
  );
/** Lets a node try a recipe that is not saved. */
export const tryRecipe = (body: Schemas["TryRecipe"]) => answer(api.POST("/api/v1/recipe-trials", { body }));
/** Lets a node render a frame again just as on a lease; nothing of it is delivered. */
export const renderByHand = (run: number, frame: number, node: string) =>
  answer(api.POST("/api/v1/runs/{run}/frames/{frame}/trials", { params: { path: { run, frame } }, body: { node } }));
export const stopTrial = (trial: string) =>
  answer(api.DELETE("/api/v1/recipe-trials/{trial}", { params: { path: { trial } } }));
export const getTrial = (trial: string) =>
  answer(api.GET("/api/v1/recipe-trials/{trial}", { params: { path: { trial } } }));
export const dropRecipe = (recipe: string) =>
  answer(api.DELETE("/api/v1/recipes/{recipe}", { params: { path: { recipe } } }));
export const setStay = (body: Stay) => answer(api.PUT("/api/v1/stays", { body }));
export const makeKey = (body: NewKey) => answer(api.POST("/api/v1/keys", { body }));
export const revokeKey = (key: string) => answer(api.DELETE("/api/v1/keys/{key}", { params: { path: { key } } }));

/** The priorities of runs, the most urgent first. */
export const levels = ["urgent", "high", "normal", "low", "filler"];

export type Steering = "hold" | "release" | "cancel" | "retry";

export function steer(run: number, what: Steering, reason = ""): Promise<Run> {
  const path = { run };
  const params = { path, query: reason ? { reason } : {} };
  switch (what) {
    case "hold":
      return answer(api.POST("/api/v1/runs/{run}/hold", { params }));
    case "release":
      return answer(api.POST("/api/v1/runs/{run}/release", { params: { path } }));
    case "cancel":
      return answer(api.POST("/api/v1/runs/{run}/cancel", { params }));
    case "retry":
      return answer(api.POST("/api/v1/runs/{run}/retry", { params: { path } }));
  }
}

export const thumbnail = (run: number, frame: number) => `/api/v1/runs/${run}/frames/${frame}/thumbnail`;
export const picture = (run: number, frame: number, pass = "") =>
  `/api/v1/runs/${run}/frames/${frame}/picture?as=shown${pass && `&pass=${pass}`}`;
export const contactSheet = (run: number) => `/api/v1/runs/${run}/contact-sheet`;

/** The project in which nodes test themselves. Nobody else submits to it. */
export const ownProject = "self-test";

/** What people may be, the least first. */
export const ranks = ["viewer", "artist", "wrangler", "admin"];

/** Whether somebody may submit runs. */
export const isArtist = (me: Me) => ranks.indexOf(me.role) >= 1;

/** Whether somebody may steer nodes and set them up. */
export const isWrangler = (me: Me) => ranks.indexOf(me.role) >= 2;

/** Whether somebody may set up something: all of the farm, or presets of a project. */
export const setsUp = (me: Me) => isWrangler(me) || (isArtist(me) && me.leads.length > 0);

/** Whether somebody may set up people. */
export const isAdmin = (me: Me) => ranks.indexOf(me.role) >= 3;

/** Whether somebody may hold, release, cancel or retry a run. */
export function maySteer(me: Me, run: Run): boolean {
  return leads(me, run.project) || (isArtist(me) && run.owner === me.name);
}

/** Whether somebody may steer all runs of a project and keep its presets. */
export const leads = (me: Me, project: string) => isWrangler(me) || (isArtist(me) && me.leads.includes(project));
