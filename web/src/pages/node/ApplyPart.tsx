import { type FormEvent, memo, useState } from "react";
import type { FarmNode, NodeChange } from "../../api/client";

const parts = ["traits", "pools", "caps", "hours"];

/** Applies this node's settings to others, by parts. What would be different
 * is shown before anything changes. */
export const ApplyPart = memo(
  ApplyView,
  (a, b) => a.node.id === b.node.id && a.node.name === b.node.name && a.onChange === b.onChange,
);

function ApplyView({
  node,
  onChange,
}: {
  node: Pick<FarmNode, "id" | "name" | "kind">;
  onChange: (change: NodeChange, name: string) => void;
}) {
  const [chosen, setChosen] = useState<string[]>(["caps"]);
  const [where, setWhere] = useState<string>(node.kind);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onChange({ where: `(${where.trim()}) && !(name==${node.name})`, from: node.id, parts: chosen }, "Apply them");
  };
  return (
    <section aria-label="Apply to others">
      <h2 className="section">
        <b>Apply to others</b> the differences are shown first
      </h2>
      <form onSubmit={submit} className="flex flex-wrap items-center gap-x-4 gap-y-2 text-xs">
        {parts.map((p) => (
          <label key={p} className="flex items-center gap-1">
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={chosen.includes(p)}
              onChange={(event) =>
                setChosen((old) => (event.target.checked ? [...old, p] : old.filter((x) => x !== p)))
              }
            />
            {p}
          </label>
        ))}
        <label className="flex grow basis-80 items-center gap-2 whitespace-nowrap text-muted">
          to nodes that have
          <input
            className="input num min-w-32 grow input-xs"
            required
            value={where}
            onChange={(event) => setWhere(event.target.value)}
          />
        </label>
        <button type="submit" className="btn btn-xs" disabled={chosen.length === 0 || where.trim() === ""}>
          Show the differences
        </button>
      </form>
    </section>
  );
}
