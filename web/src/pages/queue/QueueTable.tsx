import { Link } from "react-router";
import type { Run } from "../../api/client";
import { Due } from "../../parts/Finish";
import { PickAll } from "../../parts/PickAll";
import { usePicking } from "../../parts/picking";
import { Ribbon } from "../../parts/Ribbon";
import { StateWord } from "../../parts/StateWord";
import { clock, told, whole } from "../../parts/time";

interface Props {
  runs: Run[];
  title: (project: string) => string;
  now: number;
  picked: ReadonlyMap<number, Run> | null; // null where nothing may be steered
  sort: string;
  down: boolean;
  onSort: (column: string) => void;
  onPick: (runs: Run[], on: boolean) => void;
}

const columns: { name: string; sort: string; wide?: boolean; right?: boolean; bare?: boolean }[] = [
  { name: "run", sort: "name" },
  { name: "state", sort: "state", bare: true },
  { name: "project", sort: "project", wide: true },
  { name: "person", sort: "owner", wide: true },
  { name: "priority", sort: "priority", wide: true },
  { name: "frames", sort: "done" },
  { name: "finish, due", sort: "due", right: true },
];

const idOf = (run: Run) => run.id;

/** Runs as a dense table, a line each and the reason below. */
export function QueueTable({ runs, title, now, picked, sort, down, onSort, onPick }: Props) {
  const tick = usePicking(runs, idOf, onPick);
  return (
    <table className="mt-1 w-full table-fixed border-collapse text-[13px]">
      <thead>
        <tr className="border-b border-hair text-left text-[11px] text-muted">
          {picked && (
            <th className="w-8 py-1 font-normal">
              <PickAll
                label="Pick all on this page"
                ids={runs.map(idOf)}
                picked={picked}
                onPick={(on) => onPick(runs, on)}
              />
            </th>
          )}
          {columns.map((c) => (
            <th
              key={c.sort}
              aria-sort={sort === c.sort ? (down ? "descending" : "ascending") : "none"}
              className={`py-1 pr-3 font-normal ${c.right ? "text-right" : ""} ${c.wide ? "max-lg:hidden" : ""} ${c.bare ? "max-sm:hidden" : ""} ${widths[c.sort]}`}
            >
              <button type="button" className="min-h-6 hover:text-base-content" onClick={() => onSort(c.sort)}>
                {c.name}
                <span aria-hidden="true">{sort === c.sort ? (down ? " ▾" : " ▴") : ""}</span>
              </button>
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {runs.map((run) => (
          <tr key={run.id} data-still className="border-b border-hair align-top hover:bg-base-200">
            {picked && (
              <td className="py-[6px]">
                <input
                  type="checkbox"
                  className="checkbox checkbox-xs"
                  aria-label={`Pick ${run.name}`}
                  checked={picked.has(run.id)}
                  onChange={() => undefined}
                  onClick={tick(run)}
                />
              </td>
            )}
            <td className="py-[5px] pr-3">
              <Link
                data-row
                to={`/runs/${run.id}`}
                className="block truncate font-semibold hover:underline"
                title={`${run.name} (#${run.id})`}
              >
                {run.job}{" "}
                <span className="text-xs font-normal text-brass">
                  {run.kind} {run.number}
                </span>
              </Link>
              <span
                className="block truncate text-xs text-muted max-sm:line-clamp-2 max-sm:whitespace-normal"
                title={told(run.why, now)}
              >
                <span className="sm:hidden">
                  <StateWord state={run.state} /> · {run.owner} ·{" "}
                </span>
                {told(run.why, now)}
              </span>
            </td>
            <td className="truncate py-[5px] pr-3 max-sm:hidden">
              <StateWord state={run.state} />
            </td>
            <td className="truncate py-[5px] pr-3 max-lg:hidden" title={title(run.project)}>
              {title(run.project)}
            </td>
            <td className="truncate py-[5px] pr-3 max-lg:hidden" title={run.owner}>
              {run.owner}
            </td>
            <td className={`py-[5px] pr-3 max-lg:hidden ${run.priority === "normal" ? "text-muted" : ""}`}>
              {run.priority}
            </td>
            <td className="py-[6px] pr-3">
              <Ribbon run={run} height={12} />
              <span className="num text-[11px] text-muted">
                {run.done_count}/{run.frame_count}
              </span>
            </td>
            <td className="py-[5px] text-right text-xs text-muted">
              <When run={run} now={now} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const widths: Record<string, string> = {
  name: "w-auto",
  state: "w-[128px]",
  project: "w-[120px]",
  owner: "w-[90px]",
  priority: "w-[76px]",
  done: "w-[150px] max-sm:w-[64px]",
  due: "w-[150px] max-sm:w-[84px]",
};

function When({ run, now }: { run: Run; now: number }) {
  if (run.ended_at !== null) {
    return (
      <span className="num" title={whole(run.ended_at)}>
        {clock(run.ended_at, now)}
      </span>
    );
  }
  const { median, late } = run.forecast;
  return (
    <>
      {median && late && (
        <span className="num" title={`${whole(median)}; nine times out of ten by ${whole(late)}`}>
          {clock(median, now)}
        </span>
      )}
      {!median && <span>–</span>}
      <Due run={run} now={now} />
    </>
  );
}
