import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";
import { useLocation } from "react-router";
import { useAwake, whileShown } from "../parts/awake";
import { type Active, type Events, type Farm, getFarm, getServices } from "./client";
import { afterEvents, Remembered, type Told } from "./events";

interface Live {
  /** When the line was lost, or null while it is up. */
  lostAt: number | null;
  /** The last sign of life before the line was lost. */
  heardAt: number;
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
  heardAt: 0,
  line: 0,
  news: null,
  seen: () => undefined,
  listeners: new Set(),
});

/** How long the line may be quiet: the service gives a sign of life every 5 s. */
const quietFor = 13_000;

/** Whether what is shown is live. */
export const useLive = () => useContext(LiveContext);

/** Events that change the farm as a whole. */
const kept: (keyof Events)[] = [
  "farm.facts",
  "farm.alerts",
  "run.added",
  "run.changed",
  "run.progress",
  "node.added",
  "node.changed",
  "node.progress",
];

/** How long events are gathered before they are shown, in milliseconds. */
const gatherFor = 80;

const remembered = new Remembered();

/** Pages that need no live runs or nodes: they follow only events of the farm as a whole. */
const calm = /^\/(keys|setup|notices|night|submit)(\/|$)/;

/** Keeps the farm in the query cache live by server-sent events. A lost line
 * is taken up again where it broke. */
export function LiveProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const farm = useFarm();
  const [lostAt, setLostAt] = useState<number | null>(null);
  const [heardAt, setHeardAt] = useState(0);
  const [line, setLine] = useState(0);
  const [news, setNews] = useState<Active | null>(null);
  const [listeners] = useState(() => new Set<FramesListener>());
  const awake = useAwake();
  const ready = farm.data !== undefined && awake;
  const brief = calm.test(useLocation().pathname);

  useEffect(() => {
    if (!ready) {
      return;
    }
    let source: EventSource | undefined;
    let timer: number | undefined;
    let quiet: number | undefined;
    let epoch = queries.getQueryData<Farm>(["farm"])?.facts.active.epoch;
    let seq = queries.getQueryData<Farm>(["farm"])?.seq ?? 0;
    let gathered: Told[] = [];
    let gathering: number | undefined;
    const show = () => {
      const events = gathered;
      gathered = [];
      gathering = undefined;
      const old = queries.getQueryData<Farm>(["farm"]);
      const next = old && afterEvents(old, events);
      if (next) {
        queries.setQueryData<Farm>(["farm"], next);
      } else {
        void queries.invalidateQueries({ queryKey: ["farm"] });
      }
    };
    let heardLast = Date.now(); // the farm has just been read
    const listen = () => {
      window.clearTimeout(quiet);
      quiet = window.setTimeout(lost, quietFor);
    };
    const heard = () => {
      heardLast = Date.now();
      listen();
    };
    const lost = () => {
      setHeardAt(heardLast);
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
      const line = new EventSource(brief ? "/api/v1/events?of=farm" : `/api/v1/events?after=${seq}`);
      source = line;
      listen();
      const on = <K extends keyof Events>(name: K, use: (told: Events[K]) => void) =>
        line.addEventListener(name, (event) => {
          const { data, lastEventId } = event as MessageEvent<string>;
          heard();
          use(JSON.parse(data) as Events[K]);
          seq = Math.max(seq, Number(lastEventId));
        });
      const keep = <K extends keyof Events>(name: K) =>
        line.addEventListener(name, (event) => {
          const { data, lastEventId } = event as MessageEvent<string>;
          const told = { seq: Number(lastEventId), name, data: JSON.parse(data) } as Told;
          heard();
          seq = Math.max(seq, told.seq);
          if (!brief) {
            remembered.add(told);
          }
          gathered.push(told);
          gathering ??= window.setTimeout(show, gatherFor);
        });
      for (const name of kept) {
        keep(name);
      }
      on("here", () => undefined);
      on("anew", () => {
        seq = 0;
        remembered.clear();
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
      window.clearTimeout(gathering);
      if (gathered.length > 0) show();
      source?.close();
    };
    const leave = whileShown(close, connect);
    return () => {
      leave();
      close();
    };
  }, [ready, queries, brief]);

  const live = useMemo(
    () => ({ lostAt, heardAt, line, news, listeners, seen: () => setNews(null) }),
    [lostAt, heardAt, line, news, listeners],
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

/** The farm as read, with the events that came in while it was read. */
const readFarm = async () => remembered.catchUp(await getFarm());

/** The farm as it is now. */
export const useFarm = () => useQuery({ queryKey: ["farm"], queryFn: readFarm, staleTime: Infinity });
