import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { changeRun, type Farm, isWrangler, levels, type Me, type Run, type RunChange } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { useDebounced } from "../../parts/debounced";
import { sentence, told, zone } from "../../parts/time";
import { useToast } from "../../parts/toast";

/** A moment as an input of type datetime-local has it. */
function local(at: string | null): string {
  if (at === null) {
    return "";
  }
  const date = new Date(at);
  return new Date(date.getTime() - date.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

/** Changes what may be changed of a run while it renders; tells first what will
 * happen, to it and to others. */
export function ChangeDialog({ run, me, onClose }: { run: Run; me: Me; onClose: () => void }) {
  const [was] = useState(run); // what was there when the form was opened; the run goes on meanwhile
  const [form, setForm] = useState({
    priority: was.priority as string,
    ceiling: was.ceiling,
    due: local(was.due),
    put: "",
    now: false,
  });
  const queries = useQueryClient();
  const tell = useToast();
  const change: RunChange = {
    ...(form.priority !== was.priority && { priority: form.priority }),
    ...(form.ceiling !== was.ceiling && { ceiling: form.ceiling }),
    ...(form.due !== local(was.due) && { due: form.due === "" ? "" : new Date(form.due).toISOString() }),
    ...(form.put !== "" && { put: form.put }),
    ...(form.now && { now: true }),
  };
  const settled = useDebounced(JSON.stringify(change), 250);
  const nothing = settled === "{}";
  const asked = useQuery({
    queryKey: ["change", run.id, settled],
    queryFn: () => changeRun(run.id, { ...(JSON.parse(settled) as RunChange), dry_run: true }),
    enabled: !nothing,
    retry: false,
    gcTime: 0,
    refetchInterval: 5000, // forecasts move
    placeholderData: keepPreviousData,
  });
  const fresh =
    settled === JSON.stringify(change) && !(asked.isFetching && (asked.isPending || asked.isPlaceholderData));
  const apply = async () => {
    const done = await changeRun(run.id, change);
    queries.setQueryData<Farm>(
      ["farm"],
      (old) =>
        old && {
          ...old,
          runs: old.runs.map((r) => (r.id === done.run.id && done.run.changed >= r.changed ? done.run : r)),
        },
    );
    tell({ text: `${run.name}: ${told(done.sentence)}.` });
  };
  const field = "text-xs text-muted";
  return (
    <Confirm
      title={`Change ${run.name}`}
      yes="Change it"
      danger={form.now}
      disabled={nothing || !fresh || asked.isError || !asked.data?.changes}
      onYes={apply}
      onNo={onClose}
    >
      <div className="grid grid-cols-1 gap-3 sm:grid-cols-2">
        <label className={field}>
          priority
          <select
            className="select mt-[2px] w-full select-sm"
            value={form.priority}
            onChange={(event) => setForm({ ...form, priority: event.target.value })}
          >
            {levels
              .filter((l) => l !== "urgent" || isWrangler(me) || was.priority === l)
              .map((l) => (
                <option key={l}>{l}</option>
              ))}
          </select>
        </label>
        <label className={field}>
          ceiling: nodes, or a percentage
          <input
            className="input num mt-[2px] w-full input-sm"
            placeholder="none"
            value={form.ceiling}
            onChange={(event) => setForm({ ...form, ceiling: event.target.value })}
          />
        </label>
        <label className={field}>
          due, in {zone()}
          <input
            className="input num mt-[2px] w-full input-sm"
            type="datetime-local"
            value={form.due}
            onChange={(event) => setForm({ ...form, due: event.target.value })}
          />
        </label>
        {isWrangler(me) && (
          <label className={field}>
            place in its priority
            <select
              className="select mt-[2px] w-full select-sm"
              value={form.put}
              onChange={(event) => setForm({ ...form, put: event.target.value })}
            >
              <option value="">stays where it is</option>
              <option value="first">first</option>
              <option value="last">last</option>
              <option value="back">in its turn</option>
            </select>
          </label>
        )}
      </div>
      {isWrangler(me) && (
        <label className="mt-3 flex items-center gap-2 text-xs">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={form.now}
            onChange={(event) => setForm({ ...form, now: event.target.checked })}
          />
          stop frames in flight of less urgent runs for it
        </label>
      )}
      <div
        role="status"
        className={`mt-3 min-h-16 text-[13px] ${asked.isError && fresh ? "text-failed" : "text-base-content"}`}
      >
        {nothing ? (
          "Nothing is changed yet."
        ) : !fresh ? (
          "Trying it out on paper …"
        ) : asked.isError ? (
          sentence(asked.error.message)
        ) : (
          <What effects={asked.data?.effects ?? []} />
        )}
      </div>
    </Confirm>
  );
}

/** What a change does, a line for each part. */
function What({ effects }: { effects: string[] }) {
  return (
    <ul>
      {effects.map((part) => (
        <li key={part}>{sentence(part)}.</li>
      ))}
    </ul>
  );
}
