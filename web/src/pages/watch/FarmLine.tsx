import { Link } from "react-router";
import type { Farm, FarmNode } from "../../api/client";
import { Standard } from "../../parts/Standard";
import { clock, told } from "../../parts/time";

const mostStandards = 60;

/** The farm in one line: a standard for each node, and the figures. */
export function FarmLine({ nodes, facts, now }: { nodes: FarmNode[]; facts: Farm["facts"]; now: number }) {
  return (
    <header className="flex flex-wrap items-end gap-x-6 gap-y-3 border-b border-hair pb-3">
      {nodes.length === 0 ? (
        <p className="flex-1 text-muted">
          No node has joined yet. Make a key with <code className="num">vexillum key new</code> and paste the command on
          a machine.
        </p>
      ) : nodes.length > mostStandards ? (
        <Crowd nodes={nodes} />
      ) : (
        <ul className="flex min-w-0 flex-1 flex-wrap gap-x-[3px] gap-y-2 max-sm:basis-full" aria-label="Nodes">
          {nodes.map((node) => (
            <li key={node.id} className="w-[60px]" title={`${node.name}: ${told(node.why, now)}`}>
              <Link to={`/nodes/${node.id}`} className="flex flex-col items-center">
                <Standard node={node} />
                <span className="max-w-full truncate text-[10px] leading-[14px] text-faint">{node.name}</span>
              </Link>
            </li>
          ))}
        </ul>
      )}
      <dl className="flex gap-5 text-right">
        <Fact name="nodes rendering" value={`${facts.nodes_rendering}/${facts.nodes_online}`} />
        <Fact name="frames an hour" value={facts.frames_an_hour.toLocaleString("en").replaceAll(",", "\u2009")} />
        <Fact name="next finish" value={facts.next_finish ? clock(facts.next_finish, now) : "–"} />
      </dl>
    </header>
  );
}

function Fact({ name, value }: { name: string; value: string }) {
  return (
    <div className="flex flex-col-reverse">
      <dt className="text-[11px] text-muted">{name}</dt>
      <dd className="font-mono text-[19px] leading-[22px] font-medium">{value}</dd>
    </div>
  );
}

/** A large farm by state. */
function Crowd({ nodes }: { nodes: FarmNode[] }) {
  const groups = Map.groupBy(nodes, (node) => node.state);
  return (
    <ul className="flex flex-1 flex-wrap gap-5" aria-label="Nodes by state">
      {[...groups].map(([state, members]) => (
        <li key={state} className="flex items-end gap-2">
          <Standard node={members[0]} />
          <span>
            <b className="num block text-base">{members.length}</b>
            <span className="text-[11px] text-muted">{state}</span>
          </span>
        </li>
      ))}
    </ul>
  );
}
