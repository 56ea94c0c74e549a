import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { getPools, type Pool, setPool } from "../../api/client";
import { names } from "../../parts/names";
import { ByName, useKeep, Written } from "./keep";

/** Named sets of nodes, and for which projects they are kept. */
export function PoolsPart() {
  const pools = useQuery({ queryKey: ["pools"], queryFn: getPools });
  const keep = useKeep("pools");
  return (
    <section aria-label="Pools">
      <h2 className="section">
        <b>Pools</b> sets of nodes; those kept for some projects work for no others
      </h2>
      {pools.isError && <p className="text-failed">{pools.error.message}</p>}
      <ul>
        {pools.data?.map((p: Pool) => (
          <li
            key={p.name}
            className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-4 border-b border-hair py-2 sm:grid-cols-[180px_100px_minmax(0,1fr)]"
          >
            <b className="truncate font-semibold" title={p.name}>
              {p.name}
            </b>
            <Link
              to={`/nodes?where=${encodeURIComponent(p.name)}`}
              className="text-xs text-muted hover:underline"
              title={p.nodes.join(", ")}
            >
              <span className="num">{p.nodes.length}</span> {p.nodes.length === 1 ? "node" : "nodes"}
            </Link>
            <Written
              value={p.projects.join(", ")}
              placeholder="for all projects; or names, with commas"
              label={`Projects for which ${p.name} is kept`}
              className="w-full max-sm:col-span-2"
              onKeep={(text) => {
                const projects = names(text);
                return keep(
                  () => setPool(p.name, { projects, alone: p.alone }),
                  projects.length > 0
                    ? `${p.name} is kept for ${projects.join(", ")}.`
                    : `${p.name} is for all projects.`,
                );
              }}
            />
          </li>
        ))}
      </ul>
      <ByName
        what="a pool"
        button="Make it"
        onMake={(name) =>
          keep(() => setPool(name, { projects: [] }), `There is a pool ${name}; put nodes into it on the Nodes page.`)
        }
      />
    </section>
  );
}
