import { memo, useMemo } from "react";
import type { Run } from "../api/client";
import { FrameIndex } from "./frames";
import { type FrameState, frameFill, frameLine, frameStates, worstFirst } from "./states";

const mostBins = 180;

/** The frames of a run in a row. Where several share a bin, the worst state
 * wins, with a tick below it if it is trouble. */
export const Ribbon = memo(function Ribbon({ run, height = 18 }: { run: Run; height?: number }) {
  const index = useMemo(() => new FrameIndex(run.frames), [run.frames]);
  const bins = useMemo(() => {
    const states = frameStates(run.sets, index);
    const n = Math.min(mostBins, states.length);
    const out = new Array<FrameState>(n).fill("done");
    states.forEach((state, place) => {
      const bin = Math.floor((place * n) / states.length);
      if (worstFirst.indexOf(state) < worstFirst.indexOf(out[bin])) {
        out[bin] = state;
      }
    });
    return out;
  }, [run.sets, index]);
  const label = `${run.done_count} of ${run.frame_count} frames done`;
  return (
    <svg
      className="block w-full"
      style={{ height }}
      viewBox={`0 0 ${bins.length * 10} 18`}
      preserveAspectRatio="none"
      role="img"
      aria-label={label}
    >
      {stretches(bins, height < 16).map(({ state, at, length }) => {
        const line = frameLine[state];
        const trouble = state === "failed" || state === "parked";
        return (
          <g key={at}>
            <rect
              x={at * 10 + (line ? 0.8 : 0)}
              y={line ? 0.5 : 0}
              width={length * 10 - (line ? 2.4 : 1)}
              height={line ? 13 : 14}
              fill={frameFill[state]}
              stroke={line}
              vectorEffect="non-scaling-stroke"
            />
            {trouble && (
              <path
                d={`M${at * 10 + 2.5} 4l4 6m0-6l-4 6`}
                stroke={state === "failed" ? "var(--color-base-100)" : "var(--s-failed)"}
                strokeWidth="1.3"
                vectorEffect="non-scaling-stroke"
              />
            )}
            {trouble && index.count > mostBins && (
              <path
                d={`M${at * 10 + 4.5} 15v3`}
                stroke="var(--s-failed)"
                strokeWidth="2"
                vectorEffect="non-scaling-stroke"
              />
            )}
          </g>
        );
      })}
    </svg>
  );
});

/** States of bins, with those that nobody has begun in one piece: they are
 * hollow, and a ribbon is often narrow. In a small one what is done is in one
 * piece, too. */
function stretches(bins: FrameState[], small: boolean): { state: FrameState; at: number; length: number }[] {
  const out: { state: FrameState; at: number; length: number }[] = [];
  bins.forEach((state, at) => {
    const last = out[out.length - 1];
    if (last && last.state === state && (state === "to do" || state === "dealt" || (small && state === "done"))) {
      last.length++;
    } else {
      out.push({ state, at, length: 1 });
    }
  });
  return out;
}
