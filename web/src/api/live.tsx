import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useState } from "react";
import { useAwake, whileShown } from "../parts/awake";
import { natural } from "../parts/order";
import {
  type Active,
  type Farm,
  type FarmNode,
  getFarm,
  getServices,
  levels,
  type Patch,
  type Piece,
  type Run,
} from "./client";

interface Live {
  /** When the line was lost, or null while it is up. */
  lostAt: number | null;
  /** How often the line was taken up: what is read apart from it is read anew then. */
  line: number;
  /** The service that has become active while the page was open. */
  news: Active | null;
  /** Puts the news away. */
  seen: () => void;
}

const LiveContext = createContext<Live>({ lostAt: null, line: 0, news: null, seen: () => undefined });

/** How long the line may be quiet: the service gives a sign of life every 5 s. */
const quietFor = 13_000;

/** Whether what is shown is live. */
export const useLive = () => useContext(LiveContext);

const open = (run: Run) => run.ended_at === null;

/** Puts what changed of items in its place, and new items behind the old ones.
 * Null where something changed that is not there: then all must be read anew. */
function merge<T extends { id: number }>(
  old: T[],
  changed: Patch<T>[],
  parts: (item: T, patch: Patch<T>) => Partial<T>,
): T[] | null {
  if (changed.length === 0) {
    return old;
  }
  const byId = new Map(changed.map((patch) => [patch.id, patch]));
  const kept = old.map((item) => {
    const patch = byId.get(item.id);
    byId.delete(item.id);
    return patch ? { ...item, ...patch, ...parts(item, patch) } : item;
  });
  const fresh = [...byId.values()];
  return fresh.every((patch) => "name" in patch) ? [...kept, ...(fresh as unknown as T[])] : null;
}

const ofRun = (run: Run, patch: Patch<Run>): Partial<Run> => ({
  sets: { ...run.sets, ...patch.sets },
  forecast: { ...run.forecast, ...patch.forecast },
});

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

/** The farm after a change, or null where it must be read anew. */
export function applyChange(farm: Farm, change: Piece): Farm | null {
  const runs = merge<Run>(farm.runs, change.runs ?? [], ofRun);
  const nodes = merge<FarmNode>(farm.nodes, change.nodes ?? [], () => ({}));
  if (runs === null || nodes === null) {
    return null;
  }
  return {
    ...farm,
    seq: Math.max(farm.seq, change.seq),
    facts: change.facts ? { ...farm.facts, ...change.facts } : farm.facts,
    needs_a_hand: change.needs_a_hand ?? farm.needs_a_hand,
    runs: runs === farm.runs ? runs : sortRuns(runs),
    nodes:
      nodes === farm.nodes
        ? nodes
        : nodes.filter((n) => !n.retired).sort((a, b) => natural(b.kind, a.kind) || natural(a.name, b.name)),
  };
}

/** Keeps the farm in the query cache live by server-sent events. A lost line
 * is taken up again where it broke. */
export function LiveProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const farm = useFarm();
  const [lostAt, setLostAt] = useState<number | null>(null);
  const [line, setLine] = useState(0);
  const [news, setNews] = useState<Active | null>(null);
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
      source = new EventSource(`/api/v1/events?only=changed&after=${seq}`);
      heard();
      source.addEventListener("here", heard);
      source.addEventListener("change", (event) => {
        heard();
        setLostAt(null);
        if (first) {
          setLine((n) => n + 1);
          first = false;
        }
        const change = JSON.parse((event as MessageEvent<string>).data) as Piece;
        seq = Math.max(seq, change.seq);
        const active = change.facts?.active;
        if (active) {
          if (epoch !== undefined && active.epoch !== epoch) {
            setNews(active);
          }
          epoch = active.epoch;
        }
        const old = queries.getQueryData<Farm>(["farm"]);
        const next = old && applyChange(old, change);
        if (next) {
          queries.setQueryData<Farm>(["farm"], next);
        } else {
          void queries.invalidateQueries({ queryKey: ["farm"] });
        }
      });
      source.addEventListener("error", lost);
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

  const live = useMemo(() => ({ lostAt, line, news, seen: () => setNews(null) }), [lostAt, line, news]);
  return <LiveContext.Provider value={live}>{children}</LiveContext.Provider>;
}

/** The services that share the farm's database. */
export const useServices = () => useQuery({ queryKey: ["services"], queryFn: getServices, refetchInterval: 15_000 });

/** The farm as it is now. */
export const useFarm = () => useQuery({ queryKey: ["farm"], queryFn: getFarm, staleTime: Infinity });
