import { Link } from "react-router";
import type { Attempt } from "../api/client";
import { clock, told } from "./time";

/** Tries that failed, side by side with all that was said. */
export function TriesBeside({ of: tries, now }: { of: Attempt[]; now: number }) {
  return (
    <div className="mt-1 flex gap-3 overflow-x-auto pb-1" tabIndex={0} role="region" aria-label="Tries side by side">
      {tries.map((attempt, i) => (
        <div key={i} className="min-w-64 flex-1 border-l-2 border-hair pl-2 text-xs">
          <p>
            <TryLine of={attempt} now={now} />
          </p>
          <pre className="num mt-1 max-h-64 overflow-auto whitespace-pre-wrap text-muted" tabIndex={0}>
            {told(attempt.message, now)}
          </pre>
        </div>
      ))}
    </div>
  );
}

/** When and where a try was, what failed, and who was to blame. */
export function TryLine({ of: attempt, now }: { of: Attempt; now: number }) {
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

/** What its title says of the button that renders a frame by hand. */
export const byHand = "As on its lease, with the launch line shown; nothing is delivered, and it counts as no try";
