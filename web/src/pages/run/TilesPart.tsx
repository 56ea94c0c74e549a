import { type Run, thumbnail } from "../../api/client";
import type { FrameIndex } from "../../parts/frames";
import { type FrameState, isDone } from "../../parts/states";
import type { Timing } from "./timings";

interface Props {
  run: Run;
  index: FrameIndex;
  states: FrameState[];
  timings: ReadonlyMap<number, Timing>;
  chosen: number | null;
  onChoose: (frame: number) => void;
}

/** A still that is rendered in tiles, filling up: each tile in its place, with its node. */
export function TilesPart({ run, index, states, timings, chosen, onChoose }: Props) {
  const tiles = run.tiles!;
  const node = (frame: number) => timings.get(frame)?.node ?? "";
  return (
    <section aria-label="Tiles">
      <h2 className="section">
        <b>Frame {tiles.frame}</b> in {tiles.rects.length} tiles
        {tiles.stitched ? ", put together" : ""}
      </h2>
      <div
        className="relative w-full overflow-hidden rounded border border-hair bg-black"
        style={{ aspectRatio: `${run.width} / ${run.height}` }}
      >
        {tiles.rects.map((rect, i) => {
          const frame = i + 1;
          const state = states[index.place(frame)];
          return (
            <button
              key={frame}
              type="button"
              className={`absolute overflow-hidden text-left ${
                tiles.stitched ? "" : "outline -outline-offset-1"
              } outline-hair ${frame === chosen ? "z-10 outline outline-brass!" : ""}`}
              style={placed(rect, run)}
              title={`tile ${frame}, ${state}${node(frame) && `, ${node(frame)}`}`}
              aria-label={`Tile ${frame}: ${state}${node(frame) && `, by ${node(frame)}`}`}
              onClick={() => onChoose(frame)}
            >
              {state && isDone(state) ? (
                <img
                  className="absolute max-w-none"
                  alt=""
                  src={thumbnail(run.id, frame)}
                  style={placedIn(rect, run, tiles.overlap)}
                />
              ) : (
                <span className="absolute inset-0 grid place-items-center text-[11px] text-[#a9a49b]">{state}</span>
              )}
            </button>
          );
        })}
      </div>
      <p className="num mt-1 text-[11px] break-all text-muted">
        {tiles.stitched ? `${run.output}/${tiles.file}` : "The picture is put together when its last tile is in."}
      </p>
    </section>
  );
}

type Rect = Run["tiles"] extends infer T ? (T extends { rects: (infer R)[] } ? R : never) : never;

const part = (n: number, of: number) => `${(100 * n) / of}%`;

/** A tile's place in the picture. */
function placed([left, top, right, bottom]: Rect, run: Run) {
  return {
    left: part(left, run.width),
    top: part(top, run.height),
    width: part(right - left, run.width),
    height: part(bottom - top, run.height),
  };
}

/** The place in a tile of what was rendered for it, which goes beyond it by the overlap. */
function placedIn([left, top, right, bottom]: Rect, run: Run, overlap: number) {
  const [w, h] = [right - left, bottom - top];
  const [before, above] = [Math.min(overlap, left), Math.min(overlap, top)];
  const [behind, below] = [Math.min(overlap, run.width - right), Math.min(overlap, run.height - bottom)];
  return {
    left: part(-before, w),
    top: part(-above, h),
    width: part(w + before + behind, w),
    height: part(h + above + below, h),
  };
}
