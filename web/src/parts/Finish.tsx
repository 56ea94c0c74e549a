import type { Run } from "../api/client";
import { clock, since, told, whole } from "./time";

/** When a run will be finished, as a range, or when it ended. */
export function Finish({ run, now }: { run: Run; now: number }) {
  if (run.ended_at !== null) {
    return (
      <div className="text-right">
        <p className="num text-[15.5px]" title={whole(run.ended_at)}>
          {clock(run.ended_at, now)}
        </p>
        <p className="text-xs text-muted">
          {run.started_at === null
            ? "never started"
            : `took ${since(run.started_at, new Date(run.ended_at).getTime())}`}
        </p>
      </div>
    );
  }
  const { known, median, late, why } = run.forecast;
  if (!known || median === null || late === null) {
    return (
      <div className="text-right">
        <p className="num text-[15.5px] text-muted">–</p>
        <p className="text-xs text-muted">
          {told(why, now)}
          <Due run={run} now={now} />
        </p>
      </div>
    );
  }
  const first = clock(median, now);
  const last = clock(late, now);
  return (
    <div className="text-right">
      <p className="num text-[15.5px]" title={`${whole(median)}; nine times out of ten by ${whole(late)}`}>
        {first === last ? first : `${first} – ${last}`}
      </p>
      <p className="text-xs text-muted">
        in {since(new Date(now).toISOString(), new Date(median).getTime())}
        <Due run={run} now={now} />
      </p>
    </div>
  );
}

/** When it must be ready, and whether it is forecast to miss that. */
export function Due({ run, now }: { run: Run; now: number }) {
  if (run.due === null) {
    return null;
  }
  return (
    <>
      {" · "}due{" "}
      <span className="num" title={whole(run.due)}>
        {clock(run.due, now)}
      </span>
      {run.at_risk && <span className="text-failed"> ▲ at risk</span>}
    </>
  );
}
