import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { getPools, type Pool, setPool } from "../../api/client";
import { names } from "../../parts/names";
import { ByName, useKeep, Written } from "./keep";
import { Columns, lookAgain, Part, useFound } from "./Part";

/** Named sets of nodes, and for which projects they are kept. */
export function PoolsPart() {
  const pools = useQuery({ queryKey: ["pools"], queryFn: getPools, refetchInterval: lookAgain });
  const { shown, more } = useFound(pools.data, (p) => [p.name, ...p.nodes, ...p.projects]);
  const keep = useKeep("pools");
  return (
    <Part name="Pools" intro="sets of nodes; those kept for some projects work for no others" error={pools.error}>
      <Columns
        of={["pool", "nodes", "kept for these projects"]}
        className="sm:grid sm:grid-cols-[180px_100px_minmax(0,1fr)]"
      />
      <ul>
        {shown.map((p: Pool) => (
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
                  () => setPool(p.name, { projects: p.projects, alone: p.alone }),
                );
              }}
            />
          </li>
        ))}
      </ul>
      {more}
      <ByName
        what="a pool"
        button="Make it"
        onMake={(name) =>
          keep(() => setPool(name, { projects: [] }), `There is a pool ${name}; put nodes into it on the Nodes page.`)
        }
      />
    </Part>
  );
}
