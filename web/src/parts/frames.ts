/** A stretch of frames: first, first + step … last. */
interface Part {
  first: number;
  last: number;
  step: number;
}

const form = /^(-?\d+)(?:-(-?\d+)(?:\/(\d+))?)?$/;

/** Reads a frame range as the service prints it. */
export function parts(text: string): Part[] {
  if (text === "") {
    return [];
  }
  return text.split(",").flatMap((piece) => {
    const m = form.exec(piece);
    if (!m) {
      return [];
    }
    const first = Number(m[1]);
    return [{ first, last: m[2] === undefined ? first : Number(m[2]), step: m[3] === undefined ? 1 : Number(m[3]) }];
  });
}

const size = (p: Part) => Math.floor((p.last - p.first) / p.step) + 1;

/** How many frames a range names. */
export const countFrames = (text: string) => parts(text).reduce((n, p) => n + size(p), 0);

/** The frames of a run in order, found by place or by number. */
export class FrameIndex {
  readonly count: number;
  private readonly list: { part: Part; before: number }[];

  constructor(text: string) {
    let before = 0;
    this.list = parts(text).map((part) => {
      const entry = { part, before };
      before += size(part);
      return entry;
    });
    this.count = before;
  }

  /** The frame at a place, from 0. */
  frame(place: number): number {
    let low = 0;
    let high = this.list.length - 1;
    while (low < high) {
      const middle = (low + high + 1) >> 1;
      if (this.list[middle].before <= place) {
        low = middle;
      } else {
        high = middle - 1;
      }
    }
    const entry = this.list[low];
    return entry.part.first + (place - entry.before) * entry.part.step;
  }

  /** The place of a frame, or -1. */
  place(frame: number): number {
    let low = 0;
    let high = this.list.length - 1;
    while (low <= high) {
      const middle = (low + high) >> 1;
      const { part, before } = this.list[middle];
      if (frame < part.first) {
        high = middle - 1;
      } else if (frame > part.last) {
        low = middle + 1;
      } else {
        return (frame - part.first) % part.step === 0 ? before + (frame - part.first) / part.step : -1;
      }
    }
    return -1;
  }

  /** Calls use for every place of the frames in a range. */
  each(text: string, use: (place: number, frame: number) => void): void {
    for (const p of parts(text)) {
      for (let f = p.first; f <= p.last; f += p.step) {
        const place = this.place(f);
        if (place >= 0) {
          use(place, f);
        }
      }
    }
  }
}

/** Writes frames in order as a range: stretches of one step, of three or more, as one. */
export function rangeOf(frames: number[]): string {
  const out: string[] = [];
  for (let i = 0; i < frames.length; ) {
    const step = frames[i + 1] - frames[i];
    let last = i + 1;
    while (last < frames.length && frames[last] - frames[last - 1] === step) {
      last++;
    }
    const long = last - i >= 3 || (last - i === 2 && step === 1);
    out.push(long ? `${frames[i]}-${frames[last - 1]}${step === 1 ? "" : `/${step}`}` : String(frames[i]));
    i = long ? last : i + 1;
  }
  return out.join(",");
}
