import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";
import { useAwake, whileShown } from "../parts/awake";
import { natural } from "../parts/order";
import { type Active, type Events, type Farm, type FarmNode, getFarm, getServices, levels, type Run } from "./client";

interface Live {
  /** When the line was lost, or null while it is up. */
  lostAt: number | null;
  /** How often the line was taken up: what is read apart from it is read again then. */
  line: number;
  /** The service that has become active while the page was open. */
  news: Active | null;
  /** Puts the news away. */
  seen: () => void;
  /** Those that hear which frames were verified. */
  listeners: Set<FramesListener>;
}

type FramesListener = (frames: Events["frame.verified"]["frames"]) => void;

const LiveContext = createContext<Live>({
  lostAt: null,
  line: 0,
  news: null,
  seen: () => undefined,
  listeners: new Set(),
});

/** How long the line may be quiet: the service gives a sign of life every 5 s. */
const quietFor = 13_000;

/** Whether what is shown is live. */
export const useLive = () => useContext(LiveContext);

const open = (run: Run) => run.ended_at === null;

interface Item {
  id: number;
}

/** Puts things that are told whole in their place, or behind the others. */
function put<T extends Item>(old: T[], whole: T[]): T[] {
  const byId = new Map(whole.map((item) => [item.id, item]));
  return [...old.filter((item) => !byId.has(item.id)), ...whole];
}

/** Puts what changed of things in its place. Null where something changed that
 * is not there: then all must be read again. */
function patch<T extends Item, P extends Item>(old: T[], changed: P[], change: (item: T, by: P) => T): T[] | null {
  const byId = new Map(changed.map((by) => [by.id, by]));
  const next = old.map((item) => {
    const by = byId.get(item.id);
    byId.delete(item.id);
    return by ? change(item, by) : item;
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

const withRuns = (farm: Farm, runs: Run[] | null): Farm | null => runs && { ...farm, runs: sortRuns(runs) };

const withNodes = (farm: Farm, nodes: FarmNode[] | null): Farm | null =>
  nodes && {
    ...farm,
    nodes: nodes.filter((n) => !n.retired).sort((a, b) => natural(b.kind, a.kind) || natural(a.name, b.name)),
  };

/** The farm after an event, or null where it must be read again. */
const after: { [K in keyof Events]?: (farm: Farm, told: Events[K]) => Farm | null } = {
  "farm.facts": (farm, { facts }) => ({ ...farm, facts: { ...farm.facts, ...facts } }),
  "farm.alerts": (farm, { needs_a_hand }) => ({ ...farm, needs_a_hand }),
  "run.added": (farm, { runs }) => withRuns(farm, put(farm.runs, runs)),
  "run.changed": (farm, { runs }) => withRuns(farm, patch(farm.runs, runs, changeRun)),
  // What is no state keeps its place in the queue.
  "run.progress": (farm, { runs }) => {
    const next = patch(farm.runs, runs, changeRun);
    return next && { ...farm, runs: next };
  },
  "node.added": (farm, { nodes }) => withNodes(farm, put(farm.nodes, nodes)),
  "node.changed": (farm, { nodes }) => withNodes(farm, patch(farm.nodes, nodes, changeNode)),
  "node.progress": (farm, { nodes }) => {
    const next = patch(farm.nodes, nodes, changeNode);
    return next && { ...farm, nodes: next };
  },
};

/** Keeps the farm in the query cache live by server-sent events. A lost line
 * is taken up again where it broke. */
export function LiveProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const farm = useFarm();
  const [lostAt, setLostAt] = useState<number | null>(null);
  const [line, setLine] = useState(0);
  const [news, setNews] = useState<Active | null>(null);
  const [listeners] = useState(() => new Set<FramesListener>());
  const awake = useAwake();
  const ready = farm.data !== undefined && awake;

  useEffect(() => {
    if (!ready) {
      return;
    }
    let source: EventSource | undefined;
    let timer: number | undefined;
    let quiet: number | undefined;
    let epoch = queries.getQueryData<Farm>(["farm"])?.facts.active.epoch;
    let seq = queries.getQueryData<Farm>(["farm"])?.seq ?? 0;
    const heard = () => {
      window.clearTimeout(quiet);
      quiet = window.setTimeout(lost, quietFor);
    };
    const lost = () => {
      setLostAt((since) => since ?? Date.now());
      source?.close();
      window.clearTimeout(quiet);
      window.clearTimeout(timer);
      timer = window.setTimeout(() => {
        void queries.invalidateQueries({ queryKey: ["me"] });
        connect();
      }, 1000);
    };
    const connect = () => {
      let first = true;
      const line = new EventSource(`/api/v1/events?after=${seq}`);
      source = line;
      heard();
      const on = <K extends keyof Events>(name: K, use: (told: Events[K]) => void) =>
        line.addEventListener(name, (event) => {
          const { data, lastEventId } = event as MessageEvent<string>;
          heard();
          use(JSON.parse(data) as Events[K]);
          seq = Math.max(seq, Number(lastEventId));
        });
      const keep = <K extends keyof Events>(name: K) =>
        on(name, (told) => {
          const old = queries.getQueryData<Farm>(["farm"]);
          const next = old && after[name]?.(old, told);
          if (next) {
            queries.setQueryData<Farm>(["farm"], next);
          } else {
            void queries.invalidateQueries({ queryKey: ["farm"] });
          }
        });
      for (const name of Object.keys(after) as (keyof Events)[]) {
        keep(name);
      }
      on("here", () => undefined);
      on("anew", () => {
        seq = 0;
        void queries.invalidateQueries();
      });
      on("farm.facts", ({ facts: { active } }) => {
        setLostAt(null);
        if (first) {
          setLine((n) => n + 1);
          first = false;
        }
        if (active) {
          if (epoch !== undefined && active.epoch !== epoch) {
            setNews(active);
          }
          epoch = active.epoch;
        }
      });
      on("frame.verified", ({ frames }) => {
        for (const listener of listeners) {
          listener(frames);
        }
      });
      line.addEventListener("error", lost);
    };
    connect();
    const close = () => {
      window.clearTimeout(timer);
      window.clearTimeout(quiet);
      source?.close();
    };
    const leave = whileShown(close, connect);
    return () => {
      leave();
      close();
    };
  }, [ready, queries]);

  const live = useMemo(
    () => ({ lostAt, line, news, listeners, seen: () => setNews(null) }),
    [lostAt, line, news, listeners],
  );
  return <LiveContext.Provider value={live}>{children}</LiveContext.Provider>;
}

/** Lets a page hear which frames were verified. */
export function useVerifiedFrames(hear: FramesListener) {
  const { listeners } = useLive();
  const latest = useRef(hear);
  latest.current = hear;
  useEffect(() => {
    const listener: FramesListener = (frames) => latest.current(frames);
    listeners.add(listener);
    return () => void listeners.delete(listener);
  }, [listeners]);
}

/** The services that share the farm's database. */
export const useServices = () => useQuery({ queryKey: ["services"], queryFn: getServices, refetchInterval: 15_000 });

/** The farm as it is now. */
export const useFarm = () => useQuery({ queryKey: ["farm"], queryFn: getFarm, staleTime: Infinity });
