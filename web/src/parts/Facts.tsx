import type { ReactNode } from "react";

/** Names and values, a line each; those without a value are left out. */
export function Facts({ rows }: { rows: [string, ReactNode][] }) {
  return (
    <dl>
      {rows
        .filter(([, value]) => value !== "")
        .map(([name, value]) => (
          <div
            key={name}
            className="grid grid-cols-[110px_minmax(0,1fr)] gap-3 border-b border-hair py-1 text-[12.5px] leading-[17px]"
          >
            <dt className="text-muted">{name}</dt>
            <dd className="num break-words">{value}</dd>
          </div>
        ))}
    </dl>
  );
}
