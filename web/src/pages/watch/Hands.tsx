import { Link } from "react-router";
import type { NeedHand, Run } from "../../api/client";
import { useStays } from "../../parts/stays";
import { useSteer } from "../../parts/steering";

/** What wants a person: one sentence, the evidence, one button. */
export function Hands({ hands, runs, may, wrangler }: { hands: NeedHand[]; runs: Run[]; may: (run: Run) => boolean; wrangler: boolean }) {
  const act = useSteer();
  const { release } = useStays();
  if (hands.length === 0) {
    return null;
  }
  return (
    <section aria-label="Needs a hand">
      <h2 className="section">
        <b>Needs a hand</b> {hands.length}
      </h2>
      {hands.map((hand) => {
        const run = runs.find((r) => r.id === hand.run);
        return (
          <div key={`${hand.kind} ${hand.run ?? ""} ${hand.node ?? ""} ${hand.subject ?? ""}`} className="mb-[3px] grid grid-cols-[16px_1fr_auto] items-center gap-3 border-l-[3px] border-oxblood bg-base-200 px-3 py-2">
            <Sign kind={hand.kind} />
            <div>
              {hand.sentence}
              <p className="text-[12.5px] leading-[17px] break-words text-muted">{hand.evidence}</p>
            </div>
            {!run && hand.node !== undefined && (
              <Link to={`/nodes/${hand.node}`} className="btn btn-sm">
                Look at it
              </Link>
            )}
            {hand.subject !== undefined && wrangler && (
              <button className="btn btn-primary btn-sm" onClick={() => release(...split(hand.subject!))}>
                Release
              </button>
            )}
            {run && (
              <span className="flex gap-2">
                <Link to={`/runs/${run.id}`} className="btn btn-sm">
                  Look at it
                </Link>
                {may(run) && (hand.kind === "parked" || hand.kind === "failed") && (
                  <button className="btn btn-primary btn-sm" onClick={() => void act(run, "retry")}>
                    Try again
                  </button>
                )}
                {may(run) && hand.kind === "failing" && (
                  <button className="btn btn-primary btn-sm" onClick={() => void act(run, "release")}>
                    Release
                  </button>
                )}
                {may(run) && hand.kind === "scouts" && (
                  <button className="btn btn-primary btn-sm" onClick={() => void act(run, "release")}>
                    Render the rest
                  </button>
                )}
              </span>
            )}
          </div>
        );
      })}
    </section>
  );
}

const split = (subject: string): [string, string] => [subject.slice(0, subject.indexOf(" ")), subject.slice(subject.indexOf(" ") + 1)];

function Sign({ kind }: { kind: string }) {
  if (kind === "silent" || kind === "hush") {
    return (
      <svg viewBox="0 0 16 16" className="w-4" aria-hidden="true">
        <rect x="2.5" y="2.5" width="11" height="11" fill="none" stroke="var(--muted)" strokeDasharray="2.4 2" strokeWidth="1.6" />
      </svg>
    );
  }
  if (kind === "at risk") {
    return (
      <svg viewBox="0 0 16 16" className="w-4" aria-hidden="true">
        <path d="M8 2.5l6 11H2z" fill="none" stroke="var(--s-failed)" strokeWidth="1.6" strokeLinejoin="round" />
      </svg>
    );
  }
  if (kind === "scouts" || kind === "delivery" || kind === "full" || kind === "held" || kind === "failing") {
    return (
      <svg viewBox="0 0 16 16" className="w-4" aria-hidden="true">
        <path d="M5.5 2.5v11m5-11v11" stroke="var(--s-held)" strokeWidth="2" />
      </svg>
    );
  }
  return (
    <svg viewBox="0 0 16 16" className="w-4" aria-hidden="true">
      <rect x="2" y="2" width="12" height="12" fill="none" stroke="var(--s-failed)" strokeWidth="1.6" />
      <path d="M5.5 5.5l5 5m0-5l-5 5" stroke="var(--s-failed)" strokeWidth="1.6" />
    </svg>
  );
}
