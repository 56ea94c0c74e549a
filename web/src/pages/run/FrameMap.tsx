import { type KeyboardEvent, type MouseEvent, useEffect, useMemo, useRef, useState } from "react";
import type { Run } from "../../api/client";
import { apart } from "../../parts/apart";
import type { FrameIndex } from "../../parts/frames";
import { natural } from "../../parts/order";
import { type FrameState, frameFill, frameLine, isDone } from "../../parts/states";
import type { Timing } from "./timings";

type Colouring = "state" | "node" | "seconds";

interface Props {
  run: Run;
  index: FrameIndex;
  states: FrameState[];
  timings: ReadonlyMap<number, Timing>;
  chosen: number | null;
  onChoose: (frame: number) => void;
}

const textures = ["plain", "stripe", "dot"] as const;

/** Every frame as a cell, coloured by state, node or seconds. */
export function FrameMap({ run, index, states, timings, chosen, onChoose }: Props) {
  const [by, setBy] = useState<Colouring>("state");
  const [lit, setLit] = useState<string | null>(null);
  const [hover, setHover] = useState<number | null>(null);
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const [width, setWidth] = useState(560);
  const { names, slowest, total } = useMemo(() => {
    const seen = new Set<string>();
    let [slowest, total] = [0, 0];
    for (const t of timings.values()) {
      seen.add(t.node);
      slowest = Math.max(slowest, t.seconds);
      total += t.seconds;
    }
    return { names: [...seen].sort(natural), slowest, total };
  }, [timings]);

  useEffect(() => {
    const observer = new ResizeObserver(([entry]) => setWidth(entry.contentRect.width));
    observer.observe(box.current!);
    return () => observer.disconnect();
  }, []);

  const cell = cellSize(index.count, width);
  const columns = Math.max(1, Math.floor(width / cell));
  const height = Math.ceil(index.count / columns) * cell;

  const drawn = useRef<Drawn>(undefined);
  useEffect(() => {
    const draw = () => {
      const node = canvas.current!;
      const scale = window.devicePixelRatio || 1;
      const how = {
        by,
        cell,
        columns,
        height,
        index,
        lit,
        names,
        scale,
        slowest: by === "seconds" ? slowest : 0,
        width,
      };
      const before = drawn.current && sameHow(drawn.current.how, how) ? drawn.current : undefined;
      drawn.current = { how, states, timings };
      if (!before) {
        node.width = width * scale;
        node.height = height * scale;
      }
      const ctx = node.getContext("2d")!;
      ctx.setTransform(scale, 0, 0, scale, 0, 0);
      const paint = painter(ctx, how, states, timings);
      for (let place = 0; place < index.count; place++) {
        if (!before) {
          paint(place);
          continue;
        }
        const frame = index.frame(place);
        if (before.states[place] !== states[place] || before.timings.get(frame) !== timings.get(frame)) {
          ctx.clearRect((place % columns) * cell, Math.floor(place / columns) * cell, cell, cell);
          paint(place);
        }
      }
    };
    const frame = requestAnimationFrame(draw); // many changes before the next picture are one
    return () => cancelAnimationFrame(frame);
  }, [by, timings, cell, columns, height, index, lit, names, slowest, states, width]);

  useEffect(() => {
    const again = () => {
      drawn.current = undefined;
    };
    const theme = new MutationObserver(again); // colours are others then
    theme.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    return () => theme.disconnect();
  }, []);

  const at = (event: MouseEvent) => {
    const rect = canvas.current!.getBoundingClientRect();
    const column = Math.floor((event.clientX - rect.left) / cell);
    const place = Math.floor((event.clientY - rect.top) / cell) * columns + column;
    return column < columns && place >= 0 && place < index.count ? place : null;
  };
  const onKey = (event: KeyboardEvent) => {
    const steps: Record<string, number> = {
      ArrowRight: 1,
      ArrowLeft: -1,
      ArrowDown: columns,
      ArrowUp: -columns,
      PageDown: 10 * columns,
      PageUp: -10 * columns,
      Home: -Infinity,
      End: Infinity,
    };
    const step = steps[event.key];
    if (step === undefined) {
      return;
    }
    event.preventDefault();
    event.stopPropagation();
    const from = chosen === null ? -1 : index.place(chosen);
    onChoose(index.frame(Math.min(index.count - 1, Math.max(0, from + step))));
  };
  const at0 = chosen === null ? 0 : Math.max(0, index.place(chosen));
  const told = hover !== null ? hover : chosen !== null ? index.place(chosen) : null;
  return (
    <section aria-label="Frame map">
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <h2 className="section !m-0">
          <b>Frames</b>
        </h2>
        <div className="join" role="group" aria-label="Colour frames by">
          {(["state", "node", "seconds"] as const).map((choice) => (
            <button
              type="button"
              key={choice}
              className={`btn join-item btn-xs ${by === choice ? "btn-neutral" : "btn-ghost"}`}
              aria-pressed={by === choice}
              onClick={() => setBy(choice)}
            >
              {choice}
            </button>
          ))}
        </div>
        <span className="num min-w-0 flex-1 truncate text-right text-xs text-muted" aria-hidden="true">
          {told !== null && told >= 0 && tell(index.frame(told), states[told], timings.get(index.frame(told)))}
        </span>
      </div>
      <div ref={box} className="relative">
        {chosen !== null && index.place(chosen) >= 0 && (
          <span
            aria-hidden="true"
            className="pointer-events-none absolute outline-2 outline-base-content"
            style={{
              left: (index.place(chosen) % columns) * cell,
              top: Math.floor(index.place(chosen) / columns) * cell,
              width: cell - gapOf(cell),
              height: cell - gapOf(cell),
            }}
          />
        )}
        <canvas
          ref={canvas}
          role="slider"
          aria-label={`Map of ${index.count} frames of ${run.name}: ${run.done_count} done, ${run.parked_count} parked. Arrow keys choose a frame, Home and End the first and the last.`}
          aria-valuemin={0}
          aria-valuemax={index.count - 1}
          aria-valuenow={at0}
          aria-valuetext={chosen === null ? "no frame is chosen" : tell(chosen, states[at0], timings.get(chosen))}
          tabIndex={0}
          style={{ width, height }}
          className="block cursor-pointer"
          onMouseMove={(event) => setHover(at(event))}
          onMouseLeave={() => setHover(null)}
          onClick={(event) => {
            const place = at(event);
            if (place !== null) {
              onChoose(index.frame(place));
            }
          }}
          onKeyDown={onKey}
        />
      </div>
      {by === "state" && <StateLegend states={states} />}
      {by === "node" && (
        <div className="mt-2 flex flex-wrap gap-x-3 gap-y-1 text-xs">
          {names.length === 0 && <span className="text-muted">No frame is done yet.</span>}
          {names.map((name, i) => (
            <button
              type="button"
              key={name}
              className="flex min-h-6 max-w-full items-center gap-1 text-muted hover:text-base-content"
              title={name}
              aria-pressed={lit === name}
              onClick={() => setLit(lit === name ? null : name)}
            >
              <NodeSwatch n={i} />
              <span className="max-w-40 truncate">{name}</span>
            </button>
          ))}
        </div>
      )}
      {by === "seconds" && (
        <p className="mt-2 text-xs text-muted">
          {timings.size === 0
            ? "No frame is done yet."
            : `The stronger, the longer: the longest took ${slowest.toFixed(1)} s, all ${timings.size} together ${total.toFixed(0)} s.`}
        </p>
      )}
    </section>
  );
}

/** How a map is drawn: all of it is drawn again when any of this changes. */
interface How {
  by: Colouring;
  cell: number;
  columns: number;
  height: number;
  index: FrameIndex;
  lit: string | null;
  names: string[];
  scale: number;
  slowest: number;
  width: number;
}

interface Drawn {
  how: How;
  states: FrameState[];
  timings: ReadonlyMap<number, Timing>;
}

const sameHow = (a: How, b: How) =>
  (Object.keys(b) as (keyof How)[]).every((key) =>
    key === "names" ? a.names.join() === b.names.join() : a[key] === b[key],
  );

const gapOf = (cell: number) => (cell > 6 ? 2 : cell > 3 ? 1 : 0);

/** Paints single cells. Colours are read from the page once, and not for every cell. */
function painter(
  ctx: CanvasRenderingContext2D,
  { by, cell, columns, index, lit, names, slowest }: How,
  states: FrameState[],
  timings: ReadonlyMap<number, Timing>,
) {
  const style = getComputedStyle(document.documentElement);
  const read = new Map<string, string>();
  const colour = (value: string) => {
    if (!value.startsWith("var(")) {
      return value;
    }
    let found = read.get(value);
    if (found === undefined) {
      found = style.getPropertyValue(value.slice(4, -1));
      read.set(value, found);
    }
    return found;
  };
  const places = new Map(names.map((name, i) => [name, i]));
  const side = cell - gapOf(cell);
  return (place: number) => {
    const x = (place % columns) * cell;
    const y = Math.floor(place / columns) * cell;
    const state = states[place];
    const result = timings.get(index.frame(place));
    ctx.globalAlpha = lit !== null && result?.node !== lit ? 0.18 : 1;
    if (by !== "state" && isDone(state) && result) {
      if (by === "node") {
        paintNode(ctx, x, y, side, places.get(result.node) ?? 0, colour("var(--color-base-100)"));
      } else {
        ctx.globalAlpha *= 0.15 + 0.85 * (slowest > 0 ? result.seconds / slowest : 0);
        ctx.fillStyle = colour("var(--brass)");
        ctx.fillRect(x, y, side, side);
      }
    } else {
      // Fills mean nodes or seconds then: what is not done is only outlined.
      const shown =
        by === "state" || state === "parked" ? state : state === "rendering" || state === "dealt" ? "dealt" : "to do";
      paintState(ctx, x, y, side, shown, colour);
    }
    ctx.globalAlpha = 1;
  };
}

function cellSize(frames: number, width: number): number {
  for (const size of [20, 16, 14, 12, 10, 8, 6, 5, 4, 3]) {
    if (Math.ceil(frames / Math.floor(width / size)) * size <= 200) {
      return size;
    }
  }
  return 2;
}

const tell = (frame: number, state: FrameState, result?: Timing) =>
  `frame ${frame} · ${state}${result ? ` · ${result.node} · ${result.seconds.toFixed(1)} s` : ""}`;

function paintState(
  ctx: CanvasRenderingContext2D,
  x: number,
  y: number,
  side: number,
  state: FrameState,
  colour: (value: string) => string,
) {
  if (frameFill[state] !== "none") {
    ctx.fillStyle = colour(frameFill[state]);
    ctx.fillRect(x, y, side, side);
  }
  const line = frameLine[state];
  if (line) {
    ctx.strokeStyle = colour(line);
    ctx.strokeRect(x + 0.5, y + 0.5, side - 1, side - 1);
  }
  if (state === "skipped" && side >= 6) {
    ctx.strokeStyle = colour("var(--faint)");
    ctx.beginPath();
    ctx.moveTo(x + side * 0.28, y + side / 2);
    ctx.lineTo(x + side * 0.72, y + side / 2);
    ctx.stroke();
  }
  if ((state === "failed" || state === "parked") && side >= 6) {
    ctx.strokeStyle = colour(state === "failed" ? "var(--color-base-100)" : "var(--s-failed)");
    const inset = side * 0.28;
    ctx.beginPath();
    ctx.moveTo(x + inset, y + inset);
    ctx.lineTo(x + side - inset, y + side - inset);
    ctx.moveTo(x + side - inset, y + inset);
    ctx.lineTo(x + inset, y + side - inset);
    ctx.stroke();
  }
}

/** One of the colours times three textures, neighbours never alike. */
function paintNode(ctx: CanvasRenderingContext2D, x: number, y: number, side: number, n: number, ground: string) {
  ctx.fillStyle = apart[n % apart.length];
  ctx.fillRect(x, y, side, side);
  ctx.fillStyle = ground;
  const texture = textures[Math.floor(n / apart.length) % textures.length];
  if (texture === "stripe") {
    ctx.fillRect(x, y + side * 0.4, side, side * 0.25);
  } else if (texture === "dot") {
    ctx.fillRect(x + side * 0.35, y + side * 0.35, side * 0.3, side * 0.3);
  }
}

function NodeSwatch({ n }: { n: number }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const ctx = canvas.current!.getContext("2d")!;
    paintNode(ctx, 0, 0, 12, n, getComputedStyle(document.documentElement).getPropertyValue("--color-base-100"));
  }, [n]);
  return <canvas ref={canvas} width={12} height={12} aria-hidden="true" />;
}

function StateLegend({ states }: { states: FrameState[] }) {
  const counts = new Map<FrameState, number>();
  for (const state of states) {
    counts.set(state, (counts.get(state) ?? 0) + 1);
  }
  const order: FrameState[] = [
    "done",
    "suspect",
    "delivering",
    "verifying",
    "rendering",
    "dealt",
    "to do",
    "failed",
    "parked",
    "skipped",
  ];
  return (
    <ul className="mt-2 flex flex-wrap gap-x-3 gap-y-1 text-xs text-muted">
      {order
        .filter((state) => counts.has(state))
        .map((state) => (
          <li key={state} className="flex items-center gap-1">
            <svg width="12" height="12" aria-hidden="true">
              <rect
                x="0.5"
                y="0.5"
                width="11"
                height="11"
                fill={frameFill[state]}
                stroke={frameLine[state] ?? "none"}
              />
              {state === "skipped" && <path d="M3 6h6" stroke="var(--faint)" />}
              {(state === "failed" || state === "parked") && (
                <path
                  d="M3.5 3.5l5 5m0-5l-5 5"
                  stroke={state === "failed" ? "var(--color-base-100)" : "var(--s-failed)"}
                />
              )}
            </svg>
            {state} <span className="num">{counts.get(state)}</span>
          </li>
        ))}
    </ul>
  );
}
