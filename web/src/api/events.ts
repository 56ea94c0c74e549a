import { natural } from "../parts/order";
import { type Events, type Farm, type FarmNode, levels, type Run } from "./client";

/** An event about the farm, with its place in the stream. */
export type Told = { [K in keyof Events]: { seq: number; name: K; data: Events[K] } }[keyof Events];

interface Item {
  id: number;
}

/** Replaces items by new versions of them, and appends new ones. */
function put<T extends Item>(old: T[], whole: T[]): T[] {
  const byId = new Map(whole.map((item) => [item.id, item]));
  return [...old.filter((item) => !byId.has(item.id)), ...byId.values()];
}

/** Applies changes to items, in the order in which they came. Null if a changed item is unknown: the farm
 * must then be read again. */
function patch<T extends Item, P extends Item>(old: T[], changed: P[], change: (item: T, by: P) => T): T[] | null {
  const byId = new Map<number, P[]>();
  for (const by of changed) {
    const earlier = byId.get(by.id);
    if (earlier) {
      earlier.push(by);
    } else {
      byId.set(by.id, [by]);
    }
  }
  const next = old.map((item) => {
    const all = byId.get(item.id);
    byId.delete(item.id);
    return all ? all.reduce(change, item) : item;
  });
  return byId.size === 0 ? next : null;
}

const changeRun = (run: Run, by: Events["run.changed"]["runs"][number]): Run => ({
  ...run,
  ...by,
  sets: { ...run.sets, ...by.sets },
  forecast: { ...run.forecast, ...by.forecast },
});

const changeNode = (node: FarmNode, by: Events["node.changed"]["nodes"][number]): FarmNode => ({ ...node, ...by });

const open = (run: Run) => run.ended_at === null;

/** Open runs in the order of the queue, then ended ones, the newest first. */
function sortRuns(runs: Run[]): Run[] {
  const queue = runs
    .filter(open)
    .sort((a, b) => levels.indexOf(a.priority) - levels.indexOf(b.priority) || a.put - b.put || a.id - b.id);
  return [
    ...queue,
    ...runs.filter((run) => !open(run)).sort((a, b) => (b.ended_at ?? "").localeCompare(a.ended_at ?? "")),
  ];
}

const sortNodes = (nodes: FarmNode[]) =>
  nodes.filter((n) => !n.retired).sort((a, b) => natural(b.kind, a.kind) || natural(a.name, b.name));

/** What of a run decides its place; of a node, whether it is shown, and where. */
const places = (run: object) => "priority" in run || "put" in run || "ended_at" in run || "state" in run;
const moves = (node: object) => "kind" in node || "name" in node || "retired" in node;

/** The farm after events in their order, or null where it must be read again. Events of one kind that
 * follow on one another are one change, and what has to be sorted is sorted once. */
export function afterEvents(farm: Farm, events: Told[]): Farm | null {
  let { runs, nodes }: { runs: Run[] | null; nodes: FarmNode[] | null } = farm;
  let next = farm;
  let [runsMove, nodesMove] = [false, false];
  for (let i = 0; i < events.length; ) {
    const name = events[i].name;
    const same: Told[] = [];
    for (; i < events.length && events[i].name === name; i++) {
      same.push(events[i]);
    }
    const of = <K extends keyof Events>(_: K) => same.map((e) => e.data as Events[K]);
    switch (name) {
      case "farm.facts":
        for (const { facts } of of(name)) next = { ...next, facts: { ...next.facts, ...facts } };
        break;
      case "farm.alerts":
        next = { ...next, needs_a_hand: of(name).at(-1)!.needs_a_hand };
        break;
      case "run.added":
        runs = put(
          runs,
          of(name).flatMap((e) => e.runs),
        );
        runsMove = true;
        break;
      case "run.changed":
      case "run.progress": {
        const changed = of(name).flatMap((e) => e.runs);
        runs = patch(runs, changed, changeRun);
        runsMove ||= changed.some(places);
        break;
      }
      case "node.added":
        nodes = put(
          nodes,
          of(name).flatMap((e) => e.nodes),
        );
        nodesMove = true;
        break;
      case "node.changed":
      case "node.progress": {
        const changed = of(name).flatMap((e) => e.nodes);
        nodes = patch(nodes, changed, changeNode);
        nodesMove ||= changed.some(moves);
        break;
      }
    }
    if (!runs || !nodes) {
      return null;
    }
  }
  return {
    ...next,
    seq: Math.max(farm.seq, events.at(-1)?.seq ?? 0),
    runs: runsMove ? sortRuns(runs) : runs,
    nodes: nodesMove ? sortNodes(nodes) : nodes,
  };
}

/** How many events are remembered for a farm that is read again. */
const mostRemembered = 5000;

/** The newest events: a farm that is read again while events come in is older than some of them. */
export class Remembered {
  private events: Told[] = [];
  private from = 0; // events up to this one are forgotten

  add(event: Told) {
    this.events.push(event);
    if (this.events.length > 2 * mostRemembered) {
      this.from = this.events[mostRemembered].seq;
      this.events = this.events.slice(mostRemembered + 1);
    }
  }

  /** Forgets all: the stream begins again. */
  clear() {
    this.events = [];
  }

  /** The farm as read, with the events that it does not have yet. */
  catchUp(farm: Farm): Farm {
    const newer = this.events.filter((e) => e.seq > farm.seq);
    return newer.length === 0 || farm.seq < this.from ? farm : (afterEvents(farm, newer) ?? farm);
  }
}
