import { Link } from "react-router";
import type { NeedHand, Run, Stay } from "../../api/client";
import { useHandActs } from "../../parts/handActs";
import { MendedButton } from "../../parts/MendedButton";
import { useStays } from "../../parts/stays";
import { useSteer } from "../../parts/steering";
import { clock, sentence, told, useNow, whole } from "../../parts/time";
import { Sign } from "./HandSign";

interface Props {
  hand: NeedHand;
  runs: Run[];
  may: (run: Run) => boolean;
  wrangler: boolean;
}

/** One thing that needs a hand: a sentence, what speaks for it, what it costs, the act that
 * helps most, and what somebody does about it. */
export function HandCard({ hand, runs, may, wrangler }: Props) {
  const now = useNow(10_000);
  const { act, ask, dialog } = useHandActs(hand);
  const { go } = useSteer();
  const { release } = useStays();
  const run = runs.find((r) => r.id === hand.run);
  const primary = "btn btn-primary btn-sm";
  const quiet = "btn btn-ghost btn-xs font-normal underline decoration-dotted";
  return (
    <div
      data-still
      className="mb-[3px] grid grid-cols-[16px_minmax(0,1fr)] items-center gap-x-3 gap-y-2 border-l-[3px] border-oxblood bg-base-200 px-3 py-2 sm:grid-cols-[16px_minmax(0,1fr)_auto]"
    >
      <Sign kind={hand.kind} />
      <div className="min-w-0 break-words">
        {told(hand.sentence)}
        <p className="text-[12.5px] sm:line-clamp-3 leading-[17px] text-muted" title={told(hand.evidence)}>
          {told(hand.evidence)}
        </p>
        <p className="flex flex-wrap items-center gap-x-3 text-xs leading-5 text-muted">
          {hand.cost.text && (
            <span className={hand.cost.due ? "text-base-content" : ""}>{sentence(hand.cost.text)}</span>
          )}
          {hand.since && (
            <span title={whole(hand.since)}>
              since <span className="num">{clock(hand.since, now)}</span>
            </span>
          )}
          {hand.count > 1 && <span>{hand.count === 2 ? "come twice" : `come ${hand.count} times`}</span>}
          {hand.taken_by && <span className="text-base-content">{hand.taken_by} sees to it</span>}
          {hand.snoozed_until && (
            <span>
              put off by {hand.snoozed_by} until <span className="num">{clock(hand.snoozed_until, now)}</span>
            </span>
          )}
          {(wrangler || (run && may(run))) && hand.id !== 0 && (
            <span className="flex flex-wrap gap-x-1">
              {hand.taken_by ? (
                <button type="button" className={quiet} onClick={() => act({ do: "leave" })}>
                  Leave
                </button>
              ) : (
                <button type="button" className={quiet} onClick={() => act({ do: "take" })}>
                  I see to it
                </button>
              )}
              {hand.snoozed_until ? (
                <button type="button" className={quiet} onClick={() => act({ do: "wake" })}>
                  Now after all
                </button>
              ) : (
                <button type="button" className={quiet} onClick={() => ask("snooze")}>
                  Later
                </button>
              )}
              <button type="button" className={quiet} onClick={() => ask("resolve")}>
                Resolved
              </button>
            </span>
          )}
        </p>
        {dialog}
      </div>
      <span className="flex flex-wrap justify-end gap-2 max-sm:col-span-2">
        {hand.run === undefined && hand.node !== undefined && (
          <Link data-row to={`/nodes/${hand.node}`} className="btn btn-sm">
            Look at it
          </Link>
        )}
        {hand.kind === "place" && wrangler && (
          <Link data-row to="/setup" className="btn btn-sm">
            To the places
          </Link>
        )}
        {(hand.kind === "budget" || hand.kind === "spent") && wrangler && (
          <Link data-row to="/setup" className="btn btn-sm">
            To the projects
          </Link>
        )}
        {hand.kind === "waiting" && (
          <Link data-row to="/trouble" className="btn btn-sm">
            Look at it
          </Link>
        )}
        {hand.kind === "held" && hand.subject !== undefined && wrangler && (
          <button
            type="button"
            className={primary}
            onClick={() => release(hand.subject!.kind as Stay["kind"], hand.subject!.name)}
          >
            Release
          </button>
        )}
        {hand.run !== undefined && (
          <Link data-row to={`/runs/${hand.run}`} className="btn btn-sm">
            Look at it
          </Link>
        )}
        {run && may(run) && (hand.kind === "parked" || hand.kind === "failed") && (
          <button type="button" className={primary} onClick={() => void go(run, "retry")}>
            Try again
          </button>
        )}
        {run && may(run) && hand.kind === "changed" && <MendedButton run={run} className={primary} />}
        {run && may(run) && ["failing", "step"].includes(hand.kind) && (
          <button type="button" className={primary} onClick={() => void go(run, "release")}>
            Release
          </button>
        )}
        {run && may(run) && hand.kind === "scouts" && (
          <button type="button" className={primary} onClick={() => void go(run, "release")}>
            Render the rest
          </button>
        )}
      </span>
    </div>
  );
}
