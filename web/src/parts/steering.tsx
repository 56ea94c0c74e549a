import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { steer, type Farm, type Run, type Steering } from "../api/client";
import { Confirm } from "./Confirm";
import { useToast } from "./toast";

const did: Record<Steering, string> = { hold: "is held", release: "goes on", cancel: "is cancelled", retry: "tries its parked frames again" };

/** Steers a run and tells what came of it. */
export function useSteer() {
  const queries = useQueryClient();
  const tell = useToast();
  return async function act(run: Run, what: Steering): Promise<void> {
    try {
      const after = await steer(run.id, what);
      queries.setQueryData<Farm>(["farm"], (old) => old && { ...old, runs: old.runs.map((r) => (r.id === after.id && after.changed >= r.changed ? after : r)) });
      const undo = what === "hold" ? () => void act(run, "release") : what === "release" ? () => void act(run, "hold") : undefined;
      tell({ text: `${run.name} ${did[what]}.`, undo });
    } catch (error) {
      tell({ text: (error as Error).message, bad: true });
    }
  };
}

const frames = (n: number) => (n === 1 ? "1 frame" : `${n} frames`);

/** The buttons that steer a run. Each says before what it will do. */
export function SteerButtons({ run }: { run: Run }) {
  const [asking, setAsking] = useState<"hold" | "cancel" | null>(null);
  const act = useSteer();
  const open = run.ended_at === null;
  const flying = run.nodes.length; // each has one frame in flight
  return (
    <div className="flex gap-2">
      {run.parked_count > 0 && run.state !== "cancelled" && (
        <button className="btn btn-sm" onClick={() => void act(run, "retry")}>
          Try {frames(run.parked_count)} again
        </button>
      )}
      {open && run.state === "held" && (
        <button className="btn btn-primary btn-sm" onClick={() => void act(run, "release")}>
          Release
        </button>
      )}
      {open && run.state !== "held" && (
        <button className="btn btn-sm" onClick={() => (flying > 0 ? setAsking("hold") : void act(run, "hold"))}>
          Hold
        </button>
      )}
      {open && (
        <button className="btn btn-sm" onClick={() => setAsking("cancel")}>
          Cancel run
        </button>
      )}
      {asking === "hold" && (
        <Confirm title={`Hold ${run.name}?`} yes="Hold it" onYes={() => void act(run, "hold")} onNo={() => setAsking(null)}>
          {frames(flying)} in flight will finish first. Nothing is lost, and you can release it at any time.
        </Confirm>
      )}
      {asking === "cancel" && (
        <Confirm title={`Cancel ${run.name}?`} yes="Cancel the run" danger onYes={() => void act(run, "cancel")} onNo={() => setAsking(null)}>
          {flying > 0 ? `${frames(flying)} in flight will be thrown away. ` : ""}
          {run.done_count > 0 ? `The ${frames(run.done_count)} that are done stay where they are. ` : ""}A cancelled run cannot be taken up again.
        </Confirm>
      )}
    </div>
  );
}
