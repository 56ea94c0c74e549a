import { useQueryClient } from "@tanstack/react-query";
import { actOnFrames, type Run, retryParked } from "../api/client";
import { useToast } from "./toast";

/** What a person decides about frames of a run, with what takes it back. */
export function useFrameActs(run: Pick<Run, "id" | "name">) {
  const queries = useQueryClient();
  const tell = useToast();
  const fresh = () => Promise.all(["run", "trouble"].map((key) => queries.invalidateQueries({ queryKey: [key] })));
  const bad = (error: Error) => tell({ text: error.message, bad: true });
  const framesOf = (n: number, frames: string) => `${n === 1 ? "frame" : "frames"} ${frames} of ${run.name}`;
  const again = (frames: string) =>
    retryParked({ runs: [run.id], frames })
      .then(async (done) => {
        await fresh();
        tell({ text: `${capital(framesOf(done.frames, frames))} will be tried again.` });
      })
      .catch(bad);
  const skip = (frames: string) =>
    actOnFrames(run.id, { do: "skip", frames })
      .then(async (done) => {
        await fresh();
        tell({
          text: `${capital(framesOf(done.count, done.frames))} ${done.count === 1 ? "is" : "are"} given up.`,
          undo: () => void again(done.frames),
        });
      })
      .catch(bad);
  const accept = (frames: string) =>
    actOnFrames(run.id, { do: "accept", frames })
      .then(async (done) => {
        await fresh();
        tell({ text: `${capital(framesOf(done.count, done.frames))} ${done.count === 1 ? "is" : "are"} accepted.` });
      })
      .catch(bad);
  return {
    again: (f: string) => void again(f),
    skip: (f: string) => void skip(f),
    accept: (f: string) => void accept(f),
  };
}

const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);
