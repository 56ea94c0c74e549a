import { type KeyboardEvent, memo, useRef } from "react";
import { type Run, thumbnail } from "../../api/client";
import { FrameImage } from "../../parts/FrameImage";
import type { FrameIndex } from "../../parts/frames";
import { type FrameState, frameLine, isDone } from "../../parts/states";

const most = 480;

/** Thumbnails of all frames, filling up as they are done. Of a long run every
 * nth frame is shown. */
export function ContactSheet({
  run,
  index,
  states,
  chosen,
  onChoose,
}: {
  run: Run;
  index: FrameIndex;
  states: FrameState[];
  chosen: number | null;
  onChoose: (frame: number) => void;
}) {
  const every = Math.ceil(index.count / most);
  const places = [];
  for (let place = 0; place < index.count; place += every) {
    places.push(place);
  }
  const grid = useRef<HTMLDivElement>(null);
  const shown = places.map((place) => index.frame(place));
  const stop = chosen !== null && shown.includes(chosen) ? chosen : shown[0]; // the one that Tab leads to
  const onKey = (event: KeyboardEvent) => {
    const cells = [...grid.current!.querySelectorAll<HTMLElement>("button")];
    const at = cells.indexOf(document.activeElement as HTMLElement);
    const columns = cells.filter((c) => c.offsetTop === cells[0].offsetTop).length;
    const steps: Record<string, number> = {
      ArrowRight: 1,
      ArrowLeft: -1,
      ArrowDown: columns,
      ArrowUp: -columns,
      Home: -at,
      End: cells.length - 1 - at,
    };
    const step = steps[event.key];
    if (at < 0 || step === undefined) {
      return;
    }
    event.preventDefault();
    event.stopPropagation();
    const next = Math.min(cells.length - 1, Math.max(0, at + step));
    cells[next].focus();
    onChoose(shown[next]);
  };
  return (
    <>
      {every > 1 && (
        <p className="mb-2 text-xs text-muted">
          Every {every}
          {every === 2 ? "nd" : every === 3 ? "rd" : "th"} frame is shown.
        </p>
      )}
      <div
        ref={grid}
        role="group"
        aria-label="Contact sheet; arrow keys go from frame to frame"
        onKeyDown={onKey}
        className="grid grid-cols-[repeat(auto-fill,minmax(104px,1fr))] gap-[6px]"
      >
        {places.map((place, i) => (
          <Cell
            key={shown[i]}
            run={run.id}
            ratio={`${run.width} / ${run.height}`}
            frame={shown[i]}
            state={states[place]}
            chosen={shown[i] === chosen}
            stop={shown[i] === stop}
            onChoose={onChoose}
          />
        ))}
      </div>
    </>
  );
}

const Cell = memo(function Cell(props: {
  run: number;
  ratio: string;
  frame: number;
  state: FrameState;
  chosen: boolean;
  stop: boolean;
  onChoose: (frame: number) => void;
}) {
  const { frame, state } = props;
  const line = props.chosen
    ? "var(--color-base-content)"
    : (frameLine[state] ??
      (state === "done" ? "transparent" : `var(--s-${state === "delivering" ? "verifying" : state})`));
  return (
    <button
      type="button"
      className="relative overflow-hidden rounded-[3px] border text-left"
      style={{ aspectRatio: props.ratio, borderColor: line, contentVisibility: "auto" }}
      aria-label={`Frame ${frame}, ${state}`}
      aria-pressed={props.chosen}
      tabIndex={props.stop ? 0 : -1}
      onClick={() => props.onChoose(frame)}
    >
      {isDone(state) && (
        <FrameImage
          lazy
          src={thumbnail(props.run, frame)}
          alt=""
          className="absolute inset-0 h-full w-full object-cover"
        />
      )}
      <span
        className={`num absolute bottom-0 left-0 px-1 text-[10px] leading-[14px] ${
          isDone(state) ? "bg-black/60 text-white" : "text-faint"
        }`}
      >
        {frame}
      </span>
      {state !== "done" && state !== "to do" && state !== "dealt" && (
        <span className="absolute right-1 bottom-0 text-[10px] leading-[14px] text-faint">{state}</span>
      )}
    </button>
  );
});
