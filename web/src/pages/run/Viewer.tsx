import { useCallback, useEffect, useState } from "react";
import { picture, type Run, thumbnail } from "../../api/client";
import { FrameImage } from "../../parts/FrameImage";
import type { FrameIndex } from "../../parts/frames";
import { type FrameState, isDone } from "../../parts/states";
import type { Timing } from "./timings";

interface Props {
  run: Run;
  index: FrameIndex;
  states: FrameState[];
  frame: number | null;
  following: boolean;
  result?: Timing;
  onChoose: (frame: number | null) => void;
}

const grounds = { black: "#000", grey: "#777", white: "#fff" } as const;

/** One frame large: the newest as they arrive, or the chosen one. */
export function Viewer({ run, index, states, frame, following, result, onChoose }: Props) {
  const [ground, setGround] = useState<keyof typeof grounds>("black");
  const [pass, setPass] = useState("");
  useEffect(() => setPass(""), [run.id]);
  const state = frame === null ? undefined : states[index.place(frame)];
  const step = useCallback(
    (by: number) => {
      const from = frame === null ? 0 : index.place(frame);
      onChoose(index.frame(Math.min(index.count - 1, Math.max(0, from + by))));
    },
    [frame, index, onChoose],
  );
  useEffect(() => {
    const onKey = (event: globalThis.KeyboardEvent) => {
      if (
        /^(INPUT|TEXTAREA|SELECT)$/.test((event.target as HTMLElement).tagName) ||
        document.querySelector("dialog[open]")
      ) {
        return;
      }
      if (event.ctrlKey || event.metaKey || event.altKey) {
        return;
      }
      if (event.key === "ArrowRight" || event.key === "ArrowLeft") {
        event.preventDefault();
        step((event.key === "ArrowRight" ? 1 : -1) * (event.shiftKey ? 10 : 1));
      } else if (event.key === "n") {
        onChoose(null);
      } else if (event.key === "p" && run.passes.length > 0) {
        setPass((now) => ["", ...run.passes][(run.passes.indexOf(now) + 2) % (run.passes.length + 1)] ?? "");
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [step, onChoose, run.passes]);
  const ratio = `${run.width} / ${run.height}`;
  return (
    <section aria-label="Picture" className="min-w-0">
      <div
        className="grid place-items-center overflow-hidden rounded border border-hair"
        style={{ aspectRatio: ratio, background: grounds[ground] }}
      >
        {frame !== null && state && isDone(state) ? (
          run.movie ? (
            // biome-ignore lint/a11y/useMediaCaption: a movie of rendered frames says nothing
            <video
              className="h-full w-full"
              src={picture(run.id, frame)}
              controls
              loop
              preload="metadata"
              aria-label={`The movie of ${run.name}`}
            />
          ) : (
            <Picture run={run} frame={frame} pass={pass} />
          )
        ) : (
          <p className="px-6 text-center" style={{ color: ground === "black" ? "#a9a49b" : "#000" }}>
            {frame === null
              ? "No frame is done yet. The first picture appears here as soon as it is verified."
              : `Frame ${frame} is ${state}.`}
          </p>
        )}
      </div>
      <div className="mt-2 flex flex-wrap items-center gap-x-3 gap-y-1 text-xs text-muted">
        <button type="button" className="btn btn-xs" aria-label="Frame before" onClick={() => step(-1)}>
          ←
        </button>
        <span className="num text-sm text-base-content">{frame ?? "–"}</span>
        <button type="button" className="btn btn-xs" aria-label="Frame after" onClick={() => step(1)}>
          →
        </button>
        {following ? (
          <span>{run.ended_at === null ? "the newest" : "the last that was done"}</span>
        ) : (
          <button type="button" className="link min-h-6" onClick={() => onChoose(null)}>
            {run.ended_at === null ? "follow the newest" : "to the last"}
          </button>
        )}
        <span className="flex-1" />
        {result && (
          <span className="num max-w-60 truncate" title={result.node}>
            {result.node} · {result.seconds.toFixed(1)} s
          </span>
        )}
        {run.passes.length > 0 && (
          <label className="flex items-center gap-1">
            <span>pass</span>
            <select className="select w-20 select-xs" value={pass} onChange={(event) => setPass(event.target.value)}>
              <option value="">picture</option>
              {run.passes.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          </label>
        )}
        <label className="flex items-center gap-1">
          <span>ground</span>
          <select
            className="select w-20 select-xs"
            value={ground}
            onChange={(event) => setGround(event.target.value as keyof typeof grounds)}
          >
            {Object.keys(grounds).map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
      </div>
    </section>
  );
}

/** The frame itself over its thumbnail, so that there is something at once. */
function Picture({ run, frame, pass }: { run: Run; frame: number; pass: string }) {
  const over = "absolute inset-0 h-full w-full object-contain";
  return (
    <div className="relative h-full w-full">
      {pass === "" && <FrameImage src={thumbnail(run.id, frame)} alt="" className={over} />}
      <FrameImage
        key={pass}
        src={picture(run.id, frame, pass)}
        alt={`Frame ${frame} of ${run.name}${pass && `, pass ${pass}`}`}
        className={over}
      />
    </div>
  );
}
