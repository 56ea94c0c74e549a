import type { FrameSets } from "../api/client";
import type { FrameIndex } from "./frames";

export type FrameState =
  | "to do"
  | "dealt"
  | "rendering"
  | "verifying"
  | "delivering"
  | "done"
  | "suspect"
  | "failed"
  | "parked"
  | "skipped";

/** The states of frames, the worst first: in a bin of several it wins. */
export const worstFirst: FrameState[] = [
  "parked",
  "failed",
  "suspect",
  "rendering",
  "verifying",
  "delivering",
  "dealt",
  "to do",
  "skipped",
  "done",
];

const keys: Record<FrameState, Exclude<keyof FrameSets, "block">> = {
  "to do": "to_do",
  dealt: "dealt",
  rendering: "rendering",
  verifying: "verifying",
  delivering: "delivering",
  done: "done",
  suspect: "suspect",
  failed: "failed",
  parked: "parked",
  skipped: "skipped",
};

/** The state of each frame of a run, by place. */
export function frameStates(sets: FrameSets, index: FrameIndex): FrameState[] {
  const states = new Array<FrameState>(index.count).fill("to do");
  for (const state of [...worstFirst].reverse()) {
    if (state !== "to do") {
      index.each(sets[keys[state]], (place) => {
        states[place] = state;
      });
    }
  }
  return states;
}

/** Whether a frame in this state has its picture. */
export const isDone = (state: FrameState) => state === "done" || state === "suspect";

/** How a state of a frame is filled. */
export const frameFill: Record<FrameState, string> = {
  "to do": "none",
  dealt: "var(--s-rendering-dim)",
  rendering: "var(--s-rendering)",
  verifying: "var(--s-verifying)",
  delivering: "var(--s-verifying)",
  done: "var(--s-done)",
  suspect: "var(--s-suspect)",
  failed: "var(--s-failed)",
  parked: "none",
  skipped: "none",
};

/** How a state of a frame is outlined. */
export const frameLine: Partial<Record<FrameState, string>> = {
  "to do": "var(--s-todo)",
  dealt: "var(--s-rendering)",
  verifying: "var(--s-rendering)",
  delivering: "var(--s-rendering)",
  parked: "var(--s-failed)",
  skipped: "var(--faint)",
};

/** Colour and sign of the states of runs and nodes. */
export const look: Record<string, { colour: string; sign: string }> = {
  rendering: { colour: "var(--s-text-rendering)", sign: "◧" },
  done: { colour: "var(--s-text-done)", sign: "●" },
  queued: { colour: "var(--muted)", sign: "○" },
  waiting: { colour: "var(--muted)", sign: "◌" },
  ready: { colour: "var(--muted)", sign: "□" },
  held: { colour: "var(--s-held)", sign: "‖" },
  draining: { colour: "var(--s-held)", sign: "▽" },
  "done with gaps": { colour: "var(--s-held)", sign: "◑" },
  failed: { colour: "var(--s-failed)", sign: "✕" },
  passed: { colour: "var(--s-text-done)", sign: "●" },
  cancelled: { colour: "var(--faint)", sign: "–" },
  away: { colour: "var(--faint)", sign: "╶" },
  silent: { colour: "var(--faint)", sign: "┄" },
  "off duty": { colour: "var(--faint)", sign: "☾" },
  announced: { colour: "var(--faint)", sign: "◌" },
  retired: { colour: "var(--faint)", sign: "–" },
  sidelined: { colour: "var(--s-sidelined)", sign: "⚑" },
};
