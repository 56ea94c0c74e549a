import { type PointerEvent, useMemo, useRef, useState } from "react";
import type { Run } from "../../api/client";
import { FrameIndex, rangeOf } from "../../parts/frames";
import { frameStates, isDone } from "../../parts/states";

/** More frames than this are typed, not painted. */
const mostPainted = 50_000;

interface Props {
  shot: string; // all frames of the animation
  frames: string; // that are chosen; empty: all
  before?: Run; // the newest run of the job: what there is already
  onFrames: (frames: string) => void;
}

/** The frames of a shot in a row, on which a range is painted with the pointer. What the
 * last run of the job has done is drawn below. A stroke that begins on a chosen frame
 * takes frames away. */
export function RangePainter({ shot, frames, before, onFrames }: Props) {
  const whole = useMemo(() => new FrameIndex(shot), [shot]);
  const [stroke, setStroke] = useState<{ from: number; to: number; adds: boolean } | null>(null);
  const box = useRef<SVGSVGElement>(null);
  const chosen = useMemo(() => {
    const out = new Uint8Array(Math.min(whole.count, mostPainted));
    if (frames.trim() === "") {
      out.fill(1);
    } else {
      whole.each(frames.replace(/\s/g, ""), (place) => {
        out[place] = 1;
      });
    }
    return out;
  }, [whole, frames]);
  const there = useMemo(() => {
    const out = new Uint8Array(Math.min(whole.count, mostPainted));
    if (before) {
      const index = new FrameIndex(before.frames);
      frameStates(before.sets, index).forEach((state, i) => {
        const place = isDone(state) ? whole.place(index.frame(i)) : -1;
        if (place >= 0) {
          out[place] = 1;
        }
      });
    }
    return out;
  }, [whole, before]);
  if (whole.count < 2 || whole.count > mostPainted) {
    return null;
  }
  const painted = stroke ? paint(chosen, stroke) : chosen;
  const at = (event: PointerEvent) => {
    const { left, width } = box.current!.getBoundingClientRect();
    return Math.max(0, Math.min(whole.count - 1, Math.floor(((event.clientX - left) / width) * whole.count)));
  };
  const down = (event: PointerEvent) => {
    event.currentTarget.setPointerCapture(event.pointerId);
    const place = at(event);
    // All frames are chosen to begin with: the first stroke then says which.
    const all = frames.trim() === "";
    setStroke({ from: place, to: place, adds: all || chosen[place] === 0 });
  };
  const up = () => {
    if (stroke) {
      const base = frames.trim() === "" ? new Uint8Array(whole.count) : chosen;
      const places = [...paint(base, stroke)].flatMap((on, place) => (on ? [whole.frame(place)] : []));
      onFrames(places.length === whole.count ? "" : rangeOf(places));
    }
    setStroke(null);
  };
  const shown = stroke && frames.trim() === "" ? paint(new Uint8Array(whole.count), stroke) : painted;
  const [low, high] = stroke ? [Math.min(stroke.from, stroke.to), Math.max(stroke.from, stroke.to)] : [0, 0];
  return (
    <div className="col-span-full min-w-0">
      <svg
        ref={box}
        className="block h-[30px] w-full cursor-crosshair touch-none select-none"
        viewBox={`0 0 ${whole.count} 30`}
        preserveAspectRatio="none"
        role="img"
        aria-label="Frames of the shot; those that are chosen are filled"
        onPointerDown={down}
        onPointerMove={(e) => stroke && setStroke({ ...stroke, to: at(e) })}
        onPointerUp={up}
        onPointerCancel={() => setStroke(null)}
      >
        <rect x="0" y="0.5" width={whole.count} height="19" fill="var(--color-base-200)" stroke="none" />
        {stretches(shown).map(([from, to]) => (
          <rect key={from} x={from} y="0" width={to - from} height="20" fill="var(--s-rendering)" />
        ))}
        {stretches(there).map(([from, to]) => (
          <rect key={from} x={from} y="23" width={to - from} height="5" fill="var(--s-done)" />
        ))}
      </svg>
      <p className="mt-0.5 flex justify-between gap-3 text-[11px] text-muted">
        <span className="num">{whole.frame(0)}</span>
        <span className="truncate">
          {stroke ? (
            <span className="num">
              {stroke.adds ? "" : "without "}
              {whole.frame(low)}–{whole.frame(high)}
            </span>
          ) : before ? (
            `drag to choose frames; below: done in ${before.name}`
          ) : (
            "drag to choose frames"
          )}
        </span>
        <span className="num">{whole.frame(whole.count - 1)}</span>
      </p>
    </div>
  );
}

function paint(chosen: Uint8Array, { from, to, adds }: { from: number; to: number; adds: boolean }): Uint8Array {
  return chosen.slice().fill(adds ? 1 : 0, Math.min(from, to), Math.max(from, to) + 1);
}

/** The stretches of places that are set, each with the place behind its last. */
function stretches(of: Uint8Array): [number, number][] {
  const out: [number, number][] = [];
  for (let i = of.indexOf(1); i >= 0; ) {
    const end = of.indexOf(0, i);
    out.push([i, end < 0 ? of.length : end]);
    i = end < 0 ? -1 : of.indexOf(1, end);
  }
  return out;
}
