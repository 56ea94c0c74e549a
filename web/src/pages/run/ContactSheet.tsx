import { memo } from "react";
import { thumbnail, type Run } from "../../api/client";
import { FrameImage } from "../../parts/FrameImage";
import type { FrameIndex } from "../../parts/frames";
import { frameLine, type FrameState } from "../../parts/states";

const most = 480;

/** Thumbnails of all frames, filling up as they are done. Of a long run every
 * nth frame is shown. */
export function ContactSheet({ run, index, states, chosen, onChoose }: { run: Run; index: FrameIndex; states: FrameState[]; chosen: number | null; onChoose: (frame: number) => void }) {
  const every = Math.ceil(index.count / most);
  const places = [];
  for (let place = 0; place < index.count; place += every) {
    places.push(place);
  }
  return (
    <>
      {every > 1 && <p className="mb-2 text-xs text-muted">Every {every}th frame is shown.</p>}
      <div className="grid grid-cols-[repeat(auto-fill,minmax(104px,1fr))] gap-[6px]">
        {places.map((place) => {
          const frame = index.frame(place);
          return <Cell key={frame} run={run.id} ratio={`${run.width} / ${run.height}`} frame={frame} state={states[place]} chosen={frame === chosen} onChoose={onChoose} />;
        })}
      </div>
    </>
  );
}

const Cell = memo(function Cell(props: { run: number; ratio: string; frame: number; state: FrameState; chosen: boolean; onChoose: (frame: number) => void }) {
  const { frame, state } = props;
  const line = props.chosen ? "var(--color-base-content)" : (frameLine[state] ?? (state === "done" ? "transparent" : `var(--s-${state === "delivering" ? "verifying" : state})`));
  return (
    <button
      className="relative overflow-hidden rounded-[3px] border text-left"
      style={{ aspectRatio: props.ratio, borderColor: line, contentVisibility: "auto" }}
      aria-label={`Frame ${frame}, ${state}`}
      onClick={() => props.onChoose(frame)}
    >
      {state === "done" && <FrameImage lazy src={thumbnail(props.run, frame)} alt="" className="absolute inset-0 h-full w-full object-cover" />}
      <span className={`num absolute bottom-0 left-0 px-1 text-[10px] leading-[14px] ${state === "done" ? "bg-black/60 text-white" : "text-faint"}`}>{frame}</span>
      {state !== "done" && state !== "to do" && state !== "dealt" && <span className="absolute right-1 bottom-0 text-[10px] leading-[14px] text-faint">{state}</span>}
    </button>
  );
});
