import { useMemo, useState } from "react";
import { type Run, renderByHand } from "../../api/client";
import { EvidenceGrid, nodesOf } from "../../parts/EvidenceGrid";
import { useFrameActs } from "../../parts/frameActs";
import { TrialPart, useTrial } from "../../parts/TrialPart";
import { byHand, TriesBeside, TryLine } from "../../parts/Tries";
import { told } from "../../parts/time";
import type { Timing } from "./timings";

/** Failed frames that are listed at once. */
const mostTroubles = 12;

/** Nodes on which a frame can be rendered by hand with one press: those that failed it last. */
const mostTried = 3;

interface Props {
  run: Run;
  timings: ReadonlyMap<number, Timing>;
  now: number;
  may: boolean;
  mayTry: boolean; // render by hand
}

export function Troubles({ run, timings, now, may, mayTry }: Props) {
  const acts = useFrameActs(run);
  const [all, setAll] = useState(false);
  if (run.troubles.length === 0) {
    return null;
  }
  return (
    <section aria-label="Trouble">
      <h2 className="section">
        <b>Trouble</b> {run.troubles.length === 1 ? "1 frame" : `${run.troubles.length} frames`}
      </h2>
      <Evidence run={run} timings={timings} now={now} />
      <ul>
        {run.troubles.slice(0, all ? undefined : mostTroubles).map((trouble) => (
          <li key={trouble.frame} className="border-b border-hair py-2">
            <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
              <span className="min-w-0 flex-1">
                <span className={trouble.skipped ? "text-muted" : "text-failed"}>
                  <span aria-hidden="true">{trouble.skipped ? "▢" : trouble.parked ? "▣" : "✕"}</span> frame{" "}
                  <span className="num">{trouble.frame}</span>
                </span>{" "}
                {standing(trouble, run)}
              </span>
              {may && trouble.parked && (
                <span className="flex gap-2">
                  <button type="button" className="btn btn-xs" onClick={() => acts.again(String(trouble.frame))}>
                    Try again
                  </button>
                  {!trouble.skipped && (
                    <button type="button" className="btn btn-xs" onClick={() => acts.skip(String(trouble.frame))}>
                      Give up
                    </button>
                  )}
                </span>
              )}
            </p>
            <Attempts of={trouble} run={run} now={now} mayTry={mayTry} />
          </li>
        ))}
      </ul>
      {!all && run.troubles.length > mostTroubles && (
        <button type="button" className="btn mt-2 btn-sm" onClick={() => setAll(true)}>
          Show all {run.troubles.length}
        </button>
      )}
    </section>
  );
}

type Trouble = Run["troubles"][number];

/** The frames that have failed beside what nodes have rendered of the run. */
function Evidence({ run, timings, now }: Pick<Props, "run" | "timings" | "now">) {
  const grid = useMemo(() => {
    const done = new Map<string, number>();
    for (const { node } of timings.values()) {
      done.set(node, (done.get(node) ?? 0) + 1);
    }
    return {
      nodes: nodesOf(
        run.troubles.flatMap((t) => t.failed),
        done.keys(),
      ),
      done,
      rows: run.troubles.map((t) => ({
        key: String(t.frame),
        name: String(t.frame),
        tries: t.failed,
        doneOn: timings.get(t.frame)?.node,
      })),
    };
  }, [run.troubles, timings]);
  if (grid.rows.length < 2 || grid.nodes.length < 2) {
    return null;
  }
  return (
    <EvidenceGrid
      of="frame"
      rows={grid.rows}
      nodes={grid.nodes}
      foot={{ name: "done of the run", of: grid.done }}
      now={now}
    />
  );
}

/** The tries of a frame that failed: a line each, or side by side with all that was said. */
function Attempts({ of: trouble, run, now, mayTry }: { of: Trouble; run: Run; now: number; mayTry: boolean }) {
  const [beside, setBeside] = useState(false);
  const trial = useTrial();
  const nodes = [...new Set(trouble.failed.map((a) => a.node))];
  return (
    <>
      {beside ? (
        <TriesBeside of={trouble.failed} now={now} />
      ) : (
        trouble.failed.map((attempt, i) => (
          <p key={i} className="truncate text-xs text-muted" title={told(attempt.message, now)}>
            <TryLine of={attempt} now={now} /> – {told(attempt.message, now).split("\n").slice(0, 2).join(" · ")}
          </p>
        ))
      )}
      {trouble.failed.length > 0 && (
        <button
          type="button"
          className="btn btn-ghost btn-xs font-normal underline decoration-dotted"
          aria-expanded={beside}
          onClick={() => setBeside(!beside)}
        >
          {beside ? "Less" : trouble.failed.length === 1 ? "All that was said" : "Side by side"}
        </button>
      )}
      {mayTry &&
        nodes.slice(-mostTried).map((node) => (
          <button
            type="button"
            key={node}
            className="btn ml-2 btn-ghost btn-xs font-normal underline decoration-dotted"
            title={byHand}
            disabled={trial.under}
            onClick={() => trial.begin(renderByHand(run.id, trouble.frame, node))}
          >
            Render by hand on {node}
          </button>
        ))}
      <TrialPart of={trial} />
    </>
  );
}

/** Where a frame stands that has failed, as the end of a sentence. */
function standing(trouble: Trouble, run: Run): string {
  if (trouble.skipped) {
    return trouble.note ? `is skipped: ${trouble.note}` : "is skipped: somebody has given it up";
  }
  return trouble.parked
    ? "is parked and waits for a person"
    : `will be tried again; ${trouble.tried} of ${run.tries} tries used`;
}

/** Frames that are done and that somebody should look at. */
export function Suspects({ run, may, onChoose }: { run: Run; may: boolean; onChoose: (frame: number) => void }) {
  const acts = useFrameActs(run);
  if (run.suspects.length === 0) {
    return null;
  }
  return (
    <section aria-label="Suspect">
      <h2 className="section">
        <b>Suspect</b> done, but something was odd
        {may && (
          <button type="button" className="btn ml-3 btn-xs" onClick={() => acts.accept("")}>
            {run.suspects.length === 1 ? "It is as it shall be" : "All are as they shall be"}
          </button>
        )}
      </h2>
      <ul>
        {run.suspects.map((s) => (
          <li key={s.frame} className="border-b border-hair py-1 text-[13px]">
            <button type="button" className="hover:underline" onClick={() => onChoose(s.frame)}>
              <span aria-hidden="true" className="text-brass">
                ◈
              </span>{" "}
              frame <span className="num">{s.frame}</span>
            </button>{" "}
            <span className="num break-words text-muted">{s.why}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
