import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { getTrial, type RecipeTrial, stopTrial, type TrialLine } from "../api/client";

const over = (t: RecipeTrial) => t.state === "done" || t.state === "failed";

/** A trial on a node: one that is begun is looked at until it has come to its end. */
export function useTrial() {
  const [id, setId] = useState("");
  const [problem, setProblem] = useState("");
  const trial = useQuery({
    queryKey: ["trial", id],
    queryFn: () => getTrial(id),
    enabled: id !== "",
    refetchInterval: (q) => (q.state.data && over(q.state.data) ? false : 700),
  });
  const begin = (begun: Promise<RecipeTrial>) => {
    setProblem("");
    begun.then(
      (t) => setId(t.id),
      (error: Error) => setProblem(error.message),
    );
  };
  return {
    begin,
    under: id !== "" && !(trial.data && over(trial.data)) && !trial.isError,
    stop: () => void stopTrial(id).catch(() => undefined),
    problem: problem || (trial.isError ? trial.error.message : ""),
    data: trial.data,
  };
}

/** How far a trial is, and what came of it; nothing where none was begun. */
export function TrialPart({ of: trial }: { of: ReturnType<typeof useTrial> }) {
  return (
    <>
      {trial.under && (
        <button type="button" className="btn mt-2 btn-xs" onClick={trial.stop}>
          Stop it
        </button>
      )}
      {trial.problem && (
        <p role="alert" className="mt-2 text-failed">
          ✕ {trial.problem}
        </p>
      )}
      {trial.data && <Result of={trial.data} />}
    </>
  );
}

function Result({ of }: { of: RecipeTrial }) {
  return (
    <div className="mt-3" aria-live="polite">
      <p className="text-[13px]">
        {!over(of) && `${of.recipe} is being tried on ${of.node} …`}
        {of.error && <span className="text-failed">✕ {of.error}</span>}
      </p>
      <div className="flex flex-wrap gap-4">
        {of.picture && (
          <img
            className="h-auto max-w-[240px] self-start rounded border border-hair"
            alt={`The first frame, tried on ${of.node}`}
            src={`data:image/jpeg;base64,${of.picture}`}
          />
        )}
        <ul className="min-w-[240px] flex-1 text-[13px]" aria-label="Frames">
          {of.frames.map((f) => (
            <li key={f.frame} className="border-b border-hair py-1">
              <span className={f.good ? "text-done" : "text-failed"}>
                {f.good ? "✓" : "✕"} frame {f.frame}
              </span>{" "}
              <span className="text-muted">
                {f.good
                  ? `${of.width > 0 ? `${of.width} × ${of.height}, ` : ""}rendered in ${f.render_seconds.toFixed(1)} s${
                      f.startup_seconds >= 0.05 ? `, after ${f.startup_seconds.toFixed(1)} s to start` : ""
                    }${f.passes.length > 0 ? `; with ${f.passes.join(", ")}` : ""}`
                  : `${f.cause}: ${f.message.split("\n")[0]}`}
              </span>
              {f.layers.map((l) => (
                <p key={l} className="num text-[11.5px] text-muted">
                  {l}
                </p>
              ))}
              {f.warning && <p className="text-brass">suspect: {f.warning}</p>}
            </li>
          ))}
          {over(of) && of.frames.length === 0 && !of.error && (
            <li className="text-failed">Nothing came of it: no frame has begun or was left behind.</li>
          )}
          {of.notes.map((n) => (
            <li key={n} className="py-1 text-brass">
              {n}
            </li>
          ))}
        </ul>
      </div>
      {of.lines.length > 0 && <Lines all={of.lines} failed={of.state === "failed"} />}
    </div>
  );
}

/** How many lines in a row that told nothing are shown at once. */
const quietRow = 6;

/** The lines in parts: those that told something, and rows of those that did not. */
function parts(all: TrialLine[]): TrialLine[][] {
  const out: TrialLine[][] = [];
  for (const l of all) {
    const last = out.at(-1);
    if (last && isQuiet(l) && isQuiet(last[0])) {
      last.push(l);
    } else {
      out.push([l]);
    }
  }
  return out;
}

const isQuiet = (l: TrialLine) => !l.launch && l.meaning === "";

/** What the renderer was launched with and said, each line with what it was taken for. */
function Lines({ all, failed }: { all: TrialLine[]; failed: boolean }) {
  const rows = parts(all);
  return (
    <div
      role="log"
      aria-label="What the renderer said"
      className="num mt-3 max-h-[320px] overflow-auto rounded border border-hair p-2 text-[11.5px] leading-[1.45]"
    >
      {rows.map((part, i) =>
        part.length > quietRow ? (
          // What was said last may tell why it failed.
          <details key={i} open={failed && i === rows.length - 1}>
            <summary className="cursor-pointer text-muted">{part.length} lines that told nothing</summary>
            {part.map((l, k) => (
              <Line key={k} of={l} />
            ))}
          </details>
        ) : (
          part.map((l, k) => <Line key={`${i}.${k}`} of={l} />)
        ),
      )}
    </div>
  );
}

function Line({ of: l }: { of: TrialLine }) {
  return (
    <p className={l.launch ? "break-all font-semibold" : "whitespace-pre-wrap break-words"}>
      {l.launch && <span className="font-normal text-muted">launch </span>}
      {l.text}
      {l.meaning && <span className="block pl-4 text-brass">↑ {l.meaning}</span>}
    </p>
  );
}
