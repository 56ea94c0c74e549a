import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { mended, type Run } from "../api/client";
import { Confirm } from "./Confirm";
import { sentence } from "./time";
import { useToast } from "./toast";

/** Lets a run go on with its scene as it is now, once it is seen what has changed. */
export function MendedButton({ run, className = "btn btn-sm" }: { run: Run; className?: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className={className} onClick={() => setOpen(true)}>
        The scene is mended
      </button>
      {open && <Ask run={run} onClose={() => setOpen(false)} />}
    </>
  );
}

/** Whether a run may have a scene that somebody mends: it is read in its place, and frames of it wait. */
export const mayBeMended = (run: Run) =>
  run.scene !== "" && run.bundle === "" && run.state !== "cancelled" && (run.parked_count > 0 || run.state === "held");

function Ask({ run, onClose }: { run: Run; onClose: () => void }) {
  const queries = useQueryClient();
  const tell = useToast();
  const [redo, setRedo] = useState(false);
  const asked = useQuery({
    queryKey: ["mended", run.id, redo],
    queryFn: () => mended(run.id, redo, true),
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
  });
  const go = async () => {
    await mended(run.id, redo, false);
    void queries.invalidateQueries({ queryKey: ["farm"] });
    tell({ text: `${run.name} goes on with its scene as it is now.` });
  };
  return (
    <Confirm
      title={`The scene of ${run.name} is mended`}
      yes="Go on with it"
      disabled={!asked.isSuccess}
      onYes={go}
      onNo={onClose}
    >
      <div role="status" className="min-h-16 text-[13px] text-base-content">
        {asked.isError ? (
          <span className="text-failed">✕ {sentence(asked.error.message)}</span>
        ) : asked.data ? (
          asked.data.sentences.map((s) => (
            <p key={s} className="break-words">
              {s}
            </p>
          ))
        ) : (
          "Looking at the scene …"
        )}
      </div>
      {asked.data !== undefined && asked.data.old_count > 0 && (
        <label className="mt-2 flex min-h-11 items-center gap-2 text-[13px]">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={redo}
            onChange={(e) => setRedo(e.target.checked)}
          />
          <span>
            Render the <span className="num">{asked.data.old_count}</span> done{" "}
            {asked.data.old_count === 1 ? "frame" : "frames"} again, too
          </span>
        </label>
      )}
    </Confirm>
  );
}
