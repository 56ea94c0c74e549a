import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { memo, useState } from "react";
import { type FarmNode, getTimeline, type TimelineSpan } from "../../api/client";
import { apart } from "../../parts/apart";
import { Choice } from "../../parts/Choice";
import { RunLink } from "../../parts/RunLink";
import { told } from "../../parts/time";

const spans = [
  { over: "1h", name: "hour" },
  { over: "24h", name: "day" },
  { over: "7d", name: "week" },
];

const width = 1000;
const row = 15;

/** What the node did: a lane for each lease side by side, and when it did not
 * work. */
export const TimelinePart = memo(TimelineView, (a, b) => a.node.id === b.node.id);

function TimelineView({ node }: { node: Pick<FarmNode, "id"> }) {
  const [over, setOver] = useState(spans[0]);
  const [shown, setShown] = useState<TimelineSpan | null>(null);
  const timeline = useQuery({
    queryKey: ["node", node.id, "timeline", over.over],
    queryFn: () => getTimeline(node.id, over.over),
    refetchInterval: 10_000,
    placeholderData: keepPreviousData,
  });
  const data = timeline.data;
  const lanes = Math.max(1, ...(data?.spans ?? []).map((s) => s.lane + 1));
  const from = data ? Date.parse(data.from) : 0;
  const to = data ? Date.parse(data.to) : 1;
  const x = (at: string) => (width * (Date.parse(at) - from)) / (to - from);
  const runs = [...new Set((data?.spans ?? []).filter((s) => s.is === "").map((s) => s.run))];
  const colour = (run: number) => apart[runs.indexOf(run) % apart.length];
  const height = lanes * row + 14;
  return (
    <section aria-label="Timeline">
      <div className="flex items-baseline gap-3">
        <h2 className="section grow">
          <b>Timeline</b> what it did
        </h2>
        <Choice
          label="Over"
          options={spans.map((s) => s.name)}
          chosen={over.name}
          onChoose={(name) => setOver(spans.find((s) => s.name === name)!)}
        />
      </div>
      {data && (
        <>
          <svg
            viewBox={`0 0 ${width} ${height}`}
            preserveAspectRatio="none"
            className="w-full border-y border-hair"
            style={{ height }}
            role="img"
            aria-label={worked(data.spans)}
            onPointerLeave={() => setShown(null)}
          >
            {data.spans.map((s, i) =>
              s.is !== "" ? (
                <rect
                  key={i}
                  x={x(s.from)}
                  width={Math.max(1.5, x(s.to) - x(s.from))}
                  y={lanes * row + 5}
                  height="7"
                  fill={s.is === "silent" ? "var(--s-failed)" : "var(--faint)"}
                  opacity=".8"
                  onPointerEnter={() => setShown(s)}
                />
              ) : (
                <rect
                  key={i}
                  x={x(s.from)}
                  width={Math.max(1.5, x(s.to) - x(s.from))}
                  y={s.lane * row + 2}
                  height={row - 4}
                  fill={colour(s.run)}
                  onPointerEnter={() => setShown(s)}
                />
              ),
            )}
          </svg>
          <p className="num flex justify-between text-[11px] text-muted">
            <span>{when(data.from, over.over)}</span>
            <span className="truncate px-3">
              {shown
                ? `${shown.run_name || shown.is} from ${when(shown.from, over.over)} to ${when(shown.to, over.over)}${shown.leases > 1 ? `, ${shown.leases} leases` : ""}${shown.is && shown.why ? `: ${told(shown.why)}` : ""}`
                : ""}
            </span>
            <span>now</span>
          </p>
          <ul className="flex flex-wrap gap-x-4 text-[11.5px]">
            {runs.map((run) => (
              <li key={run} className="flex items-center gap-1">
                <span aria-hidden="true" className="inline-block h-2 w-2" style={{ background: colour(run) }} />
                <RunLink
                  run={run}
                  name={data.spans.find((s) => s.run === run && s.is === "")!.run_name}
                  className="hover:underline"
                />
              </li>
            ))}
            {data.spans.length === 0 && <li className="text-muted">It did nothing in that time.</li>}
            {[...new Set(data.spans.filter((s) => s.is !== "").map((s) => s.is))].map((is) => (
              <li key={is} className="flex items-center gap-1 text-muted">
                <span
                  aria-hidden="true"
                  className="inline-block h-[5px] w-3"
                  style={{ background: is === "silent" ? "var(--s-failed)" : "var(--faint)" }}
                />
                {is}
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}

function when(at: string, over: string): string {
  return new Date(at).toLocaleString([], {
    weekday: over === "1h" ? undefined : "short",
    hour: "2-digit",
    minute: "2-digit",
    hourCycle: "h23",
  });
}

function worked(all: TimelineSpan[]): string {
  const on = new Set(all.filter((s) => s.is === "").map((s) => s.run_name));
  return on.size === 0 ? "It worked on nothing in that time" : `It worked on ${[...on].join(", ")}`;
}
