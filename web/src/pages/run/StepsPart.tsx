import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { getSteps, type Run } from "../../api/client";
import { StateWord } from "../../parts/StateWord";

const wide = 210; // of a step, in pixels
const high = 52;
const gap = 46;
const rowGap = 12;

/** The runs that a run waits for or reads, those that wait for it, and so on, from left to
 * right; frame by frame with a broken line. */
export function StepsPart({ run, runs }: { run: Run; runs: Run[] }) {
  // What waits for what, as it is asked for; how far each is, as it is told live.
  const asked = useQuery({
    queryKey: ["run", run.id, "steps"],
    queryFn: () => getSteps(run.id),
    refetchInterval: 10_000,
    placeholderData: keepPreviousData,
  });
  const live = new Map(runs.map((r) => [r.id, r]));
  const steps = (asked.data ?? []).map((s) => (s.id === run.id ? run : (live.get(s.id) ?? s)));
  if (steps.length < 2) {
    return null;
  }
  const column = columns(steps);
  const rows = new Map<number, number>();
  const at = new Map<number, { x: number; y: number }>();
  for (const s of steps) {
    const c = column.get(s.id) ?? 0;
    const row = rows.get(c) ?? 0;
    rows.set(c, row + 1);
    at.set(s.id, { x: c * (wide + gap), y: row * (high + rowGap) });
  }
  const width = (Math.max(...column.values()) + 1) * (wide + gap) - gap;
  const height = Math.max(...rows.values()) * (high + rowGap) - rowGap;
  return (
    <section aria-label="Steps">
      <h2 className="section">
        <b>Steps</b> what waits for what
      </h2>
      <div className="overflow-x-auto pb-1">
        <div className="relative" style={{ width, height }}>
          <svg className="absolute inset-0" width={width} height={height} aria-hidden="true">
            {steps.flatMap((s) =>
              s.after.map((a) => {
                const [from, to] = [at.get(a.run), at.get(s.id)];
                if (!from || !to) {
                  return null;
                }
                const [x1, y1, x2, y2] = [from.x + wide, from.y + high / 2, to.x, to.y + high / 2];
                const middle = (x1 + x2) / 2;
                return (
                  <path
                    key={`${a.run} ${s.id}`}
                    d={`M${x1} ${y1}C${middle} ${y1} ${middle} ${y2} ${x2 - 5} ${y2}m-4 -4l5 4l-5 4`}
                    fill="none"
                    stroke="var(--line)"
                    strokeWidth="1.5"
                    strokeDasharray={a.frames ? "4 3" : undefined}
                  />
                );
              }),
            )}
          </svg>
          {steps.map((s) => (
            <Link
              key={s.id}
              to={`/runs/${s.id}`}
              aria-current={s.id === run.id ? "page" : undefined}
              className={`absolute flex flex-col justify-center rounded border bg-base-200 px-3 hover:border-base-content ${
                s.id === run.id ? "border-brass" : "border-hair"
              }`}
              style={{ left: at.get(s.id)!.x, top: at.get(s.id)!.y, width: wide, height: high }}
              title={`${s.name}: ${s.why}`}
            >
              <span className="truncate text-[13px] font-semibold">
                {s.job}{" "}
                <span className="font-normal text-brass">
                  {s.kind} {s.number}
                </span>
              </span>
              <span className="flex justify-between gap-2 text-xs">
                <StateWord state={s.state} />
                <span className="num text-muted">
                  {s.done_count} / {s.frame_count}
                </span>
              </span>
            </Link>
          ))}
        </div>
      </div>
    </section>
  );
}

/** How far to the right each step stands: behind all that it waits for. */
function columns(steps: Run[]): Map<number, number> {
  const out = new Map<number, number>();
  // A run only waits for such as were there before it: one pass in their order is enough.
  for (const s of steps) {
    out.set(s.id, Math.max(-1, ...s.after.map((a) => out.get(a.run) ?? -1)) + 1);
  }
  return out;
}
