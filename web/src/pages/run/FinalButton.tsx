import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type Run, submitFinal } from "../../api/client";
import { useFarm } from "../../api/live";
import { Confirm } from "../../parts/Confirm";
import { sentence } from "../../parts/time";
import { useToast } from "../../parts/toast";

/** Submits the final that a proof was made of, once its receipt is read. */
export function FinalButton({ run }: { run: Run }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className="btn btn-sm btn-primary" onClick={() => setOpen(true)}>
        Submit the final
      </button>
      {open && <Ask run={run} onClose={() => setOpen(false)} />}
    </>
  );
}

function Ask({ run, onClose }: { run: Run; onClose: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const tell = useToast();
  const asked = useQuery({
    queryKey: ["final", run.id],
    queryFn: () => submitFinal(run.id, true),
    retry: false,
    gcTime: 0,
  });
  const there = (useFarm().data?.runs ?? []).filter(
    (r) =>
      r.job === run.job && r.project === run.project && r.scene === run.scene && r.kind === "final" && r.id > run.id,
  );
  const submit = async () => {
    const done = await submitFinal(run.id, false);
    void queries.invalidateQueries({ queryKey: ["farm"] });
    tell({ text: `${done.name} is in the queue.` });
    void navigate(`/runs/${done.run}`);
  };
  return (
    <Confirm
      title={`The final of ${run.job}`}
      yes="Submit it"
      disabled={!asked.isSuccess}
      onYes={submit}
      onNo={onClose}
    >
      <p>It is as it was asked for when this proof was made of it; nothing of the proof is in it.</p>
      {there.length > 0 && (
        <p className="mt-1 text-held">
          {there.map((r) => r.name).join(", ")} {there.length === 1 ? "was" : "were"} submitted since this proof; this
          would be another one.
        </p>
      )}
      <div role="status" className="mt-2 min-h-16 text-[13px] text-base-content">
        {asked.isError ? (
          <span className="text-failed">✕ {sentence(asked.error.message)}</span>
        ) : asked.data ? (
          <>
            <p>
              <b>{asked.data.name}</b> <span className="num">{asked.data.frame_count}</span>{" "}
              {asked.data.frame_count === 1 ? "frame" : "frames"}: <span className="num">{asked.data.frames}</span>
            </p>
            <p className="num break-all text-muted">{asked.data.output}</p>
            {[asked.data.sentence, ...asked.data.remarks].filter(Boolean).map((r) => (
              <p key={r}>{sentence(r)}</p>
            ))}
          </>
        ) : (
          "Checking …"
        )}
      </div>
    </Confirm>
  );
}
