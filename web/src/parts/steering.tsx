import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { type Farm, type Run, type Steering, steer } from "../api/client";
import { Confirm } from "./Confirm";
import { useToast } from "./toast";

const did: Record<Steering, string> = {
  hold: "is held",
  release: "goes on",
  cancel: "is cancelled",
  retry: "tries its parked frames again",
};

/** Steers a run and tells what came of it: act leaves errors to the caller, go
 * tells them, too. */
export function useSteer() {
  const queries = useQueryClient();
  const tell = useToast();
  const act = async (run: Run, what: Steering, reason = ""): Promise<void> => {
    const after = await steer(run.id, what, reason);
    queries.setQueryData<Farm>(
      ["farm"],
      (old) =>
        old && { ...old, runs: old.runs.map((r) => (r.id === after.id && after.changed >= r.changed ? after : r)) },
    );
    void queries.invalidateQueries({ queryKey: ["queue"] });
    const undo =
      what === "hold" ? () => void go(run, "release") : what === "release" ? () => void go(run, "hold") : undefined;
    tell({ text: `${run.name} ${did[what]}.`, undo });
  };
  const go = (run: Run, what: Steering) =>
    act(run, what).catch((error: Error) => tell({ text: error.message, bad: true }));
  return { act, go };
}

export const countFramesText = (n: number) => (n === 1 ? "1 frame" : `${n} frames`);

/** How many frames of runs are in flight: each node has one. */
const inFlight = (runs: Run[]) => runs.reduce((n, run) => n + run.in_flight, 0);

/** Asks whether runs shall be held or cancelled, says what that means, and takes
 * a reason. */
export function AskToSteer({ what, runs, onDone }: { what: "hold" | "cancel"; runs: Run[]; onDone: () => void }) {
  const { act } = useSteer();
  const [reason, setReason] = useState("");
  const one = runs.length === 1;
  const flying = inFlight(runs);
  const done = runs.reduce((n, run) => n + run.done_count, 0);
  const name = one ? runs[0].name : `${runs.length} runs`;
  const all = async () => {
    const failed: string[] = [];
    for (const run of runs) {
      await act(run, what, reason.trim()).catch((error: Error) => failed.push(error.message));
    }
    if (failed.length > 0) {
      throw new Error(
        one
          ? failed[0]
          : `${runs.length - failed.length} of ${runs.length} are ${what === "hold" ? "held" : "cancelled"}. ${failed[0]}`,
      );
    }
  };
  const say: ReactNode =
    what === "hold" ? (
      <>
        {flying > 0 ? `${countFramesText(flying)} in flight will finish first. ` : "Nothing is in flight. "}Nothing is
        lost, and you can release {one ? "it" : "them"} at any time.
      </>
    ) : (
      <>
        {flying > 0 ? `${countFramesText(flying)} in flight will be thrown away. ` : ""}
        {done > 0
          ? `The ${countFramesText(done)} that ${done === 1 ? "is" : "are"} done stay${done === 1 ? "s" : ""} where ${done === 1 ? "it is" : "they are"}. `
          : ""}
        A cancelled run cannot be resumed.
      </>
    );
  return (
    <Confirm
      title={`${what === "hold" ? "Hold" : "Cancel"} ${name}?`}
      yes={what === "hold" ? (one ? "Hold it" : "Hold them") : one ? "Cancel the run" : "Cancel the runs"}
      danger={what === "cancel"}
      onYes={all}
      onNo={onDone}
    >
      {say}
      <label className="mt-3 block text-xs">
        why, for those who look (may stay empty)
        <input
          className="input mt-[2px] w-full input-sm"
          maxLength={200}
          value={reason}
          onChange={(event) => setReason(event.target.value)}
        />
      </label>
    </Confirm>
  );
}

/** Whether a held run helps nobody before its scene is mended: that is then the button to press. */
export const needsMending = (run: Run) =>
  run.state === "held" && (run.held_for === "changed" || run.held_for === "failing");

/** The buttons that steer a run. Each says before what it will do. */
export function SteerButtons({ run }: { run: Run }) {
  const [asking, setAsking] = useState<"hold" | "cancel" | null>(null);
  const { go } = useSteer();
  const open = run.ended_at === null;
  return (
    <div className="flex flex-wrap gap-2">
      {run.parked_count > 0 && run.state !== "cancelled" && (
        <button type="button" className="btn btn-sm" onClick={() => void go(run, "retry")}>
          Try {countFramesText(run.parked_count)} again
        </button>
      )}
      {open && run.state === "held" && (
        <button
          type="button"
          className={`btn btn-sm ${needsMending(run) ? "" : "btn-primary"}`}
          onClick={() => void go(run, "release")}
        >
          Release
        </button>
      )}
      {open && run.state !== "held" && (
        <button type="button" className="btn btn-sm" onClick={() => setAsking("hold")}>
          Hold
        </button>
      )}
      {open && (
        <button type="button" className="btn btn-sm" onClick={() => setAsking("cancel")}>
          Cancel run
        </button>
      )}
      {asking && <AskToSteer what={asking} runs={[run]} onDone={() => setAsking(null)} />}
    </div>
  );
}
