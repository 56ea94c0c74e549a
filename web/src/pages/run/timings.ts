import { useEffect, useRef, useState } from "react";
import { getTimings, type Run } from "../../api/client";
import { useLive, useVerifiedFrames } from "../../api/live";

/** Who rendered a frame, and in how many seconds. */
export interface Timing {
  node: string;
  seconds: number;
}

type Timings = ReadonlyMap<number, Timing>;

const none: Timings = new Map();

/** The timings of a run's frames. All are read once, and again when the line was
 * lost; what is new is told live. */
export function useTimings(run: Run): Timings {
  const { line } = useLive();
  const [known, setKnown] = useState(none);
  const told = useRef(new Map<number, Timing>()); // live, since they are being read
  useVerifiedFrames((frames) => {
    const mine = frames.filter((f) => f.run === run.id);
    if (mine.length === 0) {
      return;
    }
    const fresh = mine.map((f): [number, Timing] => [f.frame, { node: f.node, seconds: f.seconds ?? 0 }]);
    for (const [frame, timing] of fresh) {
      told.current.set(frame, timing);
    }
    setKnown((old) => new Map([...old, ...fresh]));
  });
  useEffect(() => {
    let gone = false;
    let timer: number | undefined;
    told.current = new Map();
    setKnown(none);
    const read = () =>
      getTimings(run.id, 0)
        .then((t) => {
          if (!gone) {
            const all = t.frames.map((frame, i): [number, Timing] => [
              frame,
              { node: t.nodes[t.node[i]], seconds: t.seconds[i] },
            ]);
            setKnown(new Map([...all, ...told.current]));
          }
        })
        .catch(() => {
          timer = gone ? undefined : window.setTimeout(read, 3000);
        });
    void read();
    return () => {
      gone = true;
      window.clearTimeout(timer);
    };
  }, [run.id, line]);
  return known;
}
