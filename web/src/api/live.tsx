import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, useContext, useEffect, useState, type ReactNode } from "react";
import { getFarm, getServices, type Active, type Change, type Farm, type FarmNode, type Run } from "./client";

const collator = new Intl.Collator(); // far faster than localeCompare, which counts with thousands of nodes

interface Live {
  /** When the line was lost, or null while it is up. */
  lostAt: number | null;
  /** The service that has become active while the page was open. */
  news: Active | null;
  /** Puts the news away. */
  seen: () => void;
}

const LiveContext = createContext<Live>({ lostAt: null, news: null, seen: () => undefined });

/** How long the line may be quiet: the service gives a sign of life every 5 s. */
const quietFor = 13_000;

/** Whether what is shown is live. */
export const useLive = () => useContext(LiveContext);

const open = (run: Run) => run.ended_at === null;

/** Puts changed items in the place of the old ones, and new ones in order. */
function merge<T extends { id: number; changed: number }>(old: T[], changed: T[]): T[] {
  if (changed.length === 0) {
    return old;
  }
  const byId = new Map(changed.map((item) => [item.id, item]));
  const kept = old.map((item) => {
    const next = byId.get(item.id);
    byId.delete(item.id);
    return next && next.changed >= item.changed ? next : item;
  });
  return [...kept, ...byId.values()];
}

function sortRuns(runs: Run[]): Run[] {
  const ended = runs.filter((run) => !open(run)).sort((a, b) => (b.ended_at ?? "").localeCompare(a.ended_at ?? ""));
  return [...runs.filter(open), ...ended];
}

/** The farm after a change. */
export function applyChange(farm: Farm, change: Change): Farm {
  return {
    ...farm,
    seq: Math.max(farm.seq, change.seq),
    facts: change.facts,
    needs_a_hand: change.needs_a_hand,
    runs: sortRuns(merge(farm.runs, change.runs)),
    nodes: merge<FarmNode>(farm.nodes, change.nodes).filter((n) => !n.retired).sort((a, b) => collator.compare(b.kind, a.kind) || collator.compare(a.name, b.name)),
  };
}

/** Keeps the farm in the query cache live by server-sent events. A lost line
 * is taken up again where it broke. */
export function LiveProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const farm = useFarm();
  const [lostAt, setLostAt] = useState<number | null>(null);
  const [news, setNews] = useState<Active | null>(null);
  const ready = farm.data !== undefined;

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
      source = new EventSource(`/api/v1/events?after=${seq}`);
      heard();
      source.addEventListener("here", heard);
      source.addEventListener("change", (event) => {
        heard();
        setLostAt(null);
        const change = JSON.parse((event as MessageEvent<string>).data) as Change;
        seq = Math.max(seq, change.seq);
        if (epoch !== undefined && change.facts.active.epoch !== epoch) {
          setNews(change.facts.active);
        }
        epoch = change.facts.active.epoch;
        queries.setQueryData<Farm>(["farm"], (old) => old && applyChange(old, change));
      });
      source.addEventListener("error", lost);
    };
    connect();
    return () => {
      window.clearTimeout(timer);
      window.clearTimeout(quiet);
      source?.close();
    };
  }, [ready, queries]);

  return <LiveContext.Provider value={{ lostAt, news, seen: () => setNews(null) }}>{children}</LiveContext.Provider>;
}

/** The services that share the farm's database. */
export const useServices = () => useQuery({ queryKey: ["services"], queryFn: getServices, refetchInterval: 15_000 });

/** The farm as it is now. */
export const useFarm = () => useQuery({ queryKey: ["farm"], queryFn: getFarm, staleTime: Infinity });
