import { useEffect, useRef, useState } from "react";
import { getTimings, type Run } from "../../api/client";
import { useLive } from "../../api/live";

/** Who rendered a frame, and in how many seconds. */
export interface Timing {
  node: string;
  seconds: number;
}

const apart = 1500; // ms between two looks

/** The timings of a run's frames. Only what is new is asked for, and all of it
 * when the line was lost. */
export function useTimings(run: Run): ReadonlyMap<number, Timing> {
  const { line } = useLive();
  const [known, setKnown] = useState<ReadonlyMap<number, Timing>>(new Map());
  const state = useRef({ of: "", seq: 0, asked: 0 });
  const stamp = `${run.sets.done} ${run.sets.delivering}`;
  const of = `${run.id} ${line}`;
  useEffect(() => {
    let gone = false;
    if (state.current.of !== of) {
      state.current = { of, seq: 0, asked: 0 };
      setKnown(new Map());
    }
    const look = () => {
      state.current.asked = Date.now();
      getTimings(run.id, state.current.seq)
        .then((t) => {
          if (gone && state.current.of !== of) {
            return;
          }
          state.current.seq = Math.max(state.current.seq, t.seq);
          if (t.frames.length > 0) {
            setKnown((old) => {
              const next = new Map(old);
              for (const [i, frame] of t.frames.entries()) {
                next.set(frame, { node: t.nodes[t.node[i]], seconds: t.seconds[i] });
              }
              return next;
            });
          }
        })
        .catch(() => undefined); // the next change asks again
    };
    const timer = window.setTimeout(look, Math.max(0, state.current.asked + apart - Date.now()));
    return () => {
      gone = true;
      window.clearTimeout(timer);
    };
  }, [run.id, of, stamp]);
  return known;
}
