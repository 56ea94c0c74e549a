import { Link } from "react-router";
import { Gauge } from "../../parts/Gauge";
import { usePicking } from "../../parts/picking";
import { Standard } from "../../parts/Standard";
import { StateWord } from "../../parts/StateWord";
import { useStill, Waiting } from "../../parts/still";
import { told } from "../../parts/time";
import { Now, type ViewProps } from "./NodeTable";

const idOf = (n: { id: number }) => n.id;

/** Nodes as cards: a standard each, what it does, and how busy it is. */
export function NodeCards({ nodes: all, picked, asked, onPick }: ViewProps) {
  const { shown: nodes, waiting } = useStill(all, idOf, asked);
  const tick = usePicking(nodes, idOf, (items, on) => onPick(items.map(idOf), on));
  return (
    <>
      <p className="h-5 text-xs" role="status">
        <Waiting count={waiting} />
      </p>
      <ul className="grid grid-cols-1 gap-3 sm:grid-cols-2 lg:grid-cols-3 xl:grid-cols-4">
        {nodes.map((node) => (
          <li
            key={node.id}
            data-still
            className={`flex gap-3 rounded border bg-base-200 p-3 ${picked?.has(node.id) ? "border-brass" : "border-hair"}`}
          >
            <Standard node={node} className="h-[48px] w-[32px] shrink-0" />
            <div className="min-w-0 flex-1">
              <p className="flex items-baseline gap-2">
                <Link
                  data-row
                  to={`/nodes/${node.id}`}
                  title={node.name}
                  className="truncate font-semibold hover:underline"
                >
                  {node.name}
                </Link>
                <span className="grow" />
                {picked && (
                  <input
                    type="checkbox"
                    className="checkbox checkbox-xs self-center"
                    aria-label={`Pick ${node.name}`}
                    checked={picked.has(node.id)}
                    onChange={() => undefined}
                    onClick={tick(node)}
                  />
                )}
              </p>
              <p className="text-xs">
                <StateWord state={node.state} />
              </p>
              <p className="mt-1 line-clamp-2 min-h-[32px] text-xs leading-4 text-muted" title={told(node.why)}>
                <Now node={node} />
              </p>
              {node.reach === "online" && (
                <p className="mt-1 flex flex-wrap gap-x-4">
                  <Gauge name="Processor" part={node.processor} />
                  <Gauge name="Memory" part={node.memory_used} />
                </p>
              )}
            </div>
          </li>
        ))}
      </ul>
    </>
  );
}
