import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { getRecipes } from "../../api/client";
import { clock, useNow } from "../../parts/time";
import { Columns, lookAgain, Part, useFound } from "./Part";
import { source } from "./source";

/** How renderers are started, fed and read. */
export function RecipesPart() {
  const recipes = useQuery({ queryKey: ["recipes"], queryFn: () => getRecipes(true), refetchInterval: lookAgain });
  const { shown, more } = useFound(recipes.data, (r) => [r.name, r.title]);
  const now = useNow();
  return (
    <Part
      name="Recipes"
      intro="how renderers are started, fed and read"
      error={recipes.error}
      action={
        <Link to="/setup/new-recipe" className="btn btn-xs">
          New recipe
        </Link>
      }
    >
      <Columns
        of={["recipe", "renderer", "newest version", "on nodes"]}
        className="sm:grid sm:grid-cols-[180px_minmax(0,1fr)_200px_90px] [&>:last-child]:text-right"
      />
      <ul>
        {shown.map((r) => (
          <li
            key={r.name}
            className={`grid grid-cols-[minmax(0,1fr)_auto] items-baseline gap-x-4 border-b border-hair py-2 ${
              r.dropped ? "text-muted" : ""
            } sm:grid-cols-[180px_minmax(0,1fr)_200px_90px]`}
          >
            <Link to={`/setup/recipes/${r.name}`} className="truncate font-semibold hover:underline" title={r.name}>
              {r.name}
            </Link>
            <span className="truncate max-sm:hidden" title={r.title}>
              {r.title}
              {r.dropped && " · dropped: for no new run"}
              {r.unreadable && <span className="text-failed"> · of a newer form than this service reads</span>}
            </span>
            <span className="truncate text-xs text-muted max-sm:order-last max-sm:col-span-2">
              version <span className="num">{r.version}</span>, {source(r)}
              {r.at && r.origin !== "shipped" && `, ${clock(r.at, now)}`}
            </span>
            <span className="text-right text-xs text-muted">
              <span className="num">{r.nodes}</span> {r.nodes === 1 ? "node" : "nodes"}
            </span>
          </li>
        ))}
      </ul>
      {more}
    </Part>
  );
}
