import { memo, useMemo } from "react";
import type { Run } from "../api/client";
import { FrameIndex } from "./frames";
import { frameFill, frameLine, frameStates, worstFirst, type FrameState } from "./states";

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
    <svg className="block w-full" style={{ height }} viewBox={`0 0 ${bins.length * 10} 18`} preserveAspectRatio="none" role="img" aria-label={label}>
      {bins.map((state, i) => {
        const line = frameLine[state];
        return (
          <g key={i}>
            <rect
              x={i * 10 + (line ? 0.8 : 0)}
              y={line ? 0.5 : 0}
              width={line ? 7.6 : 9}
              height={line ? 13 : 14}
              fill={frameFill[state]}
              stroke={line}
              vectorEffect="non-scaling-stroke"
            />
            {(state === "failed" || state === "parked") && (
              <path d={`M${i * 10 + 2.5} 4l4 6m0-6l-4 6`} stroke={state === "failed" ? "var(--color-base-100)" : "var(--s-failed)"} strokeWidth="1.3" vectorEffect="non-scaling-stroke" />
            )}
            {(state === "failed" || state === "parked") && index.count > mostBins && <path d={`M${i * 10 + 4.5} 15v3`} stroke="var(--s-failed)" strokeWidth="2" vectorEffect="non-scaling-stroke" />}
          </g>
        );
      })}
    </svg>
  );
});
