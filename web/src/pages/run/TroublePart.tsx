import { useState } from "react";
import { Link } from "react-router";
import type { Run } from "../../api/client";
import { useFrameActs } from "../../parts/frameActs";
import { clock, told } from "../../parts/time";
import { EvidenceGrid } from "./EvidenceGrid";
import type { Timing } from "./timings";

/** Failed frames that are listed at once. */
const mostTroubles = 12;

interface Props {
  run: Run;
  timings: ReadonlyMap<number, Timing>;
  now: number;
  may: boolean;
}

export function Troubles({ run, timings, now, may }: Props) {
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
      <EvidenceGrid run={run} timings={timings} now={now} />
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
            <Attempts of={trouble} now={now} />
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

/** The tries of a frame that failed: a line each, or side by side with all that was said. */
function Attempts({ of: trouble, now }: { of: Trouble; now: number }) {
  const [beside, setBeside] = useState(false);
  return (
    <>
      {beside ? (
        <div
          className="mt-1 flex gap-3 overflow-x-auto pb-1"
          tabIndex={0}
          role="region"
          aria-label="Tries side by side"
        >
          {trouble.failed.map((attempt, i) => (
            <div key={i} className="min-w-64 flex-1 border-l-2 border-hair pl-2 text-xs">
              <p>
                <Try of={attempt} now={now} />
              </p>
              <pre className="num mt-1 max-h-64 overflow-auto whitespace-pre-wrap text-muted" tabIndex={0}>
                {told(attempt.message, now)}
              </pre>
            </div>
          ))}
        </div>
      ) : (
        trouble.failed.map((attempt, i) => (
          <p key={i} className="truncate text-xs text-muted" title={told(attempt.message, now)}>
            <Try of={attempt} now={now} /> – {told(attempt.message, now).split("\n").slice(0, 2).join(" · ")}
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
    </>
  );
}

/** When and where a try was, what failed, and who was to blame. */
function Try({ of: attempt, now }: { of: Trouble["failed"][number]; now: number }) {
  return (
    <>
      <span className="num">{clock(attempt.at, now)}</span>{" "}
      <Link
        to={`/nodes/${attempt.node_id}?lease=${attempt.lease}`}
        title="What its renderer said"
        className="hover:underline"
      >
        {attempt.node}
      </Link>
      : {attempt.cause}
      {attempt.blame.who && (
        <span title="as it was seen then">
          , {attempt.blame.who} ({attempt.blame.text})
        </span>
      )}
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
