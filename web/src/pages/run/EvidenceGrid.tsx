import { useMemo } from "react";
import { Link } from "react-router";
import type { Run } from "../../api/client";
import { clock } from "../../parts/time";
import type { Timing } from "./timings";

interface Props {
  run: Run;
  timings: ReadonlyMap<number, Timing>;
  now: number;
}

const mostFrames = 24;
const mostNodes = 14;

/** The frames that have failed across the nodes that tried them, beside what these have
 * rendered of the run: whose fault it is shows as a row, a column, or all of it. */
export function EvidenceGrid({ run, timings, now }: Props) {
  const grid = useMemo(() => {
    const done = new Map<string, number>();
    for (const { node } of timings.values()) {
      done.set(node, (done.get(node) ?? 0) + 1);
    }
    const failed = new Map<string, number>();
    for (const a of run.troubles.flatMap((t) => t.failed)) {
      failed.set(a.node, (failed.get(a.node) ?? 0) + 1);
    }
    const nodes = [...new Set([...failed.keys(), ...done.keys()])].sort(
      (a, b) => (failed.get(b) ?? 0) - (failed.get(a) ?? 0) || a.localeCompare(b),
    );
    return { done, failed, nodes: nodes.slice(0, mostNodes), more: Math.max(0, nodes.length - mostNodes) };
  }, [run.troubles, timings]);
  if (run.troubles.length < 2 || grid.nodes.length < 2) {
    return null;
  }
  return (
    <div className="mt-2 mb-3 overflow-x-auto" tabIndex={0} role="region" aria-label="What failed where">
      <table className="border-separate border-spacing-[2px] text-xs">
        <thead>
          <tr>
            <th className="pr-2 text-left font-normal text-muted">frame</th>
            {grid.nodes.map((node) => (
              <th key={node} className="max-w-20 truncate px-1 font-normal text-muted" title={node}>
                {node}
              </th>
            ))}
            {grid.more > 0 && <th className="px-1 font-normal text-muted">and {grid.more} more</th>}
          </tr>
        </thead>
        <tbody>
          {run.troubles.slice(0, mostFrames).map((trouble) => (
            <tr key={trouble.frame}>
              <th className="num pr-2 text-left font-normal">{trouble.frame}</th>
              {grid.nodes.map((node) => (
                <Cell
                  key={node}
                  tries={trouble.failed.filter((a) => a.node === node)}
                  done={timings.get(trouble.frame)?.node === node}
                  now={now}
                />
              ))}
            </tr>
          ))}
          <tr>
            <th className="pr-2 text-left font-normal text-muted">done of the run</th>
            {grid.nodes.map((node) => (
              <td key={node} className="num px-1 text-center text-muted">
                {grid.done.get(node) ?? "–"}
              </td>
            ))}
          </tr>
        </tbody>
      </table>
    </div>
  );
}

function Cell({ tries, done, now }: { tries: Run["troubles"][number]["failed"]; done: boolean; now: number }) {
  const last = tries.at(-1);
  if (last === undefined) {
    return (
      <td className="h-6 min-w-9 bg-base-200 text-center text-muted">
        {done ? <span title="it was rendered here">●</span> : ""}
      </td>
    );
  }
  const what = tries.map((a) => `${clock(a.at, now)} ${a.cause}`).join(", ");
  return (
    <td className="h-6 min-w-9 bg-base-300 text-center">
      <Link
        to={`/nodes/${last.node_id}?lease=${last.lease}`}
        className="inline-block min-w-6 leading-6 text-failed"
        title={what}
        aria-label={`failed on ${last.node}: ${what}`}
      >
        ✕{tries.length > 1 && <span className="num">{tries.length}</span>}
      </Link>
    </td>
  );
}
