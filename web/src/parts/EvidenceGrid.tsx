import { Link } from "react-router";
import type { Attempt } from "../api/client";
import { clock } from "./time";

/** A frame that has failed somewhere. */
export interface EvidenceRow {
  key: string;
  name: string;
  to?: string; // a page about it
  tries: Attempt[]; // that failed, wherever that was
  doneOn?: string; // the node that rendered it
}

interface Props {
  of: string; // what stands before the rows
  rows: EvidenceRow[];
  nodes: string[]; // those that matter most first
  foot?: { name: string; of: ReadonlyMap<string, number> }; // a number for each node
  now: number;
}

const mostFrames = 24;
const mostNodes = 14;

/** Frames that have failed across the nodes that tried them: whose fault it is shows as a
 * row, a column, or all of it. */
export function EvidenceGrid({ of, rows, nodes, foot, now }: Props) {
  const shown = nodes.slice(0, mostNodes);
  const more = nodes.length - shown.length;
  return (
    <div className="mt-2 mb-3 overflow-x-auto" tabIndex={0} role="region" aria-label="What failed where">
      <table className="border-separate border-spacing-[2px] text-xs">
        <thead>
          <tr>
            <th className="pr-2 text-left font-normal text-muted">{of}</th>
            {shown.map((node) => (
              <th key={node} className="max-w-20 truncate px-1 font-normal text-muted" title={node}>
                {node}
              </th>
            ))}
            {more > 0 && <th className="px-1 font-normal text-muted">and {more} more</th>}
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, mostFrames).map((row) => (
            <tr key={row.key}>
              <th className="num max-w-56 truncate pr-2 text-left font-normal" title={row.name}>
                {row.to ? (
                  <Link to={row.to} className="inline-block leading-6 hover:underline">
                    {row.name}
                  </Link>
                ) : (
                  row.name
                )}
              </th>
              {shown.map((node) => (
                <Cell
                  key={node}
                  tries={row.tries.filter((a) => a.node === node)}
                  done={row.doneOn === node}
                  now={now}
                />
              ))}
            </tr>
          ))}
          {foot && (
            <tr>
              <th className="pr-2 text-left font-normal text-muted">{foot.name}</th>
              {shown.map((node) => (
                <td key={node} className="num px-1 text-center text-muted">
                  {foot.of.get(node) ?? "–"}
                </td>
              ))}
            </tr>
          )}
        </tbody>
      </table>
      {rows.length > mostFrames && <p className="text-xs text-muted">and {rows.length - mostFrames} more frames</p>}
    </div>
  );
}

function Cell({ tries, done, now }: { tries: Attempt[]; done: boolean; now: number }) {
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
    <td className="h-6 min-w-9 bg-base-300 text-center whitespace-nowrap">
      <Link
        to={`/nodes/${last.node_id}?lease=${last.lease}`}
        className="inline-block min-w-6 leading-6 text-failed"
        title={what}
        aria-label={`failed on ${last.node}: ${what}`}
      >
        ✕{tries.length > 1 && <span className="num">{tries.length}</span>}
      </Link>
      {done && (
        <span className="text-muted" title="later it was rendered here">
          ●
        </span>
      )}
    </td>
  );
}

/** The names of nodes, those on which most has failed first. */
export function nodesOf(tries: Attempt[], others: Iterable<string>): string[] {
  const failed = new Map<string, number>();
  for (const a of tries) {
    failed.set(a.node, (failed.get(a.node) ?? 0) + 1);
  }
  return [...new Set([...failed.keys(), ...others])].sort(
    (a, b) => (failed.get(b) ?? 0) - (failed.get(a) ?? 0) || a.localeCompare(b),
  );
}
