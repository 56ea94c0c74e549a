import { useQuery } from "@tanstack/react-query";
import { memo } from "react";
import { Link } from "react-router";
import { getDifferences } from "../../api/client";
import { told } from "../../parts/time";

/** How a run differs from the one of its job before, where there is one. */
export const DiffersPart = memo(function DiffersPart({ run }: { run: number }) {
  const found = useQuery({ queryKey: ["run", run, "differences"], queryFn: () => getDifferences(run), retry: false });
  const from = found.data;
  if (!from) {
    return null;
  }
  return (
    <section aria-label="What differs">
      <h2 className="section">
        <b>What differs</b>
        <span>
          from{" "}
          <Link to={`/runs/${from.from}`} className="hover:underline">
            {from.from_name}
          </Link>
        </span>
      </h2>
      {from.differences.length === 0 && <p className="text-xs text-muted">It was submitted with the same.</p>}
      <dl>
        {from.differences.map((d) => (
          <div
            key={`${d.value} ${d.what}`}
            className="grid grid-cols-[110px_minmax(0,1fr)] gap-2 border-b border-hair py-1 text-[12.5px]"
          >
            <dt className="text-muted">{d.what}</dt>
            <dd className="num break-words">
              <span className="text-muted">{d.was ? told(d.was) : "–"}</span> → {d.is ? told(d.is) : "–"}
            </dd>
          </div>
        ))}
      </dl>
    </section>
  );
});
