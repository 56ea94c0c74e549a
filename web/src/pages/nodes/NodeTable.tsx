import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { type MouseEvent, memo, useLayoutEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { FarmNode, Work } from "../../api/client";
import { amount, Gauge } from "../../parts/Gauge";
import { natural } from "../../parts/order";
import { PickAll } from "../../parts/PickAll";
import { usePicking } from "../../parts/picking";
import { RunLink } from "../../parts/RunLink";
import { Standard } from "../../parts/Standard";
import { StateWord } from "../../parts/StateWord";
import { useStill, Waiting } from "../../parts/still";
import { told } from "../../parts/time";

export interface ViewProps {
  nodes: FarmNode[];
  asked: string; // what the nodes were picked by
  picked: ReadonlySet<number> | null;
  onPick: (ids: number[], on: boolean) => void;
}

const many = 150; // nodes, beyond which only the rows in sight are there
const rowHeight = 35; // pixels, as they are mostly

const idOf = (n: FarmNode) => n.id;

const columns: { name: string; by: (n: FarmNode) => string | number; right?: boolean; small?: boolean }[] = [
  { name: "node", by: (n) => `${n.kind === "rack" ? "a" : "b"} ${n.name}` },
  { name: "state", by: (n) => n.state },
  { name: "now", by: (n) => n.works[0]?.run_name ?? n.why },
  { name: "processor", by: (n) => n.processor, small: true },
  { name: "memory", by: (n) => n.memory_used, small: true },
  { name: "speed", by: (n) => n.speed, right: true },
  { name: "pools", by: (n) => n.settings.pools.join(" "), small: true },
];

/** Nodes as a dense table that sorts by any column. */
export function NodeTable({ nodes, picked, asked, onPick }: ViewProps) {
  const [order, setOrder] = useState({ column: 0, down: false });
  const by = columns[order.column].by;
  const { shown: sorted, waiting } = useStill(
    [...nodes].sort((a, b) => {
      const [x, y] = [by(a), by(b)];
      const c = typeof x === "number" && typeof y === "number" ? x - y : natural(String(x), String(y));
      return (order.down ? -c : c) || natural(a.name, b.name);
    }),
    idOf,
    `${order.column} ${order.down} ${asked}`,
  );
  const tick = usePicking(sorted, idOf, (items, on) => onPick(items.map(idOf), on));
  const ticked = useRef(tick);
  ticked.current = tick;
  const [press] = useState(() => (node: FarmNode, event: MouseEvent<HTMLInputElement>) => ticked.current(node)(event)); // the same for all rows and always
  const body = useRef<HTMLTableSectionElement>(null);
  const [above, setAbove] = useState(0);
  useLayoutEffect(() => setAbove((body.current?.getBoundingClientRect().top ?? 0) + window.scrollY), [nodes.length]);
  const rows = useWindowVirtualizer({
    count: sorted.length,
    estimateSize: () => rowHeight,
    overscan: 15,
    scrollMargin: above,
    enabled: sorted.length > many,
  });
  const seen = rows.getVirtualItems();
  const [first, last] =
    sorted.length <= many
      ? [0, sorted.length]
      : seen.length > 0
        ? [seen[0].index, seen[seen.length - 1].index + 1]
        : [0, 0];
  const ids = nodes.map((n) => n.id);
  return (
    <>
      <p className="h-5 text-xs" role="status">
        <Waiting count={waiting} />
      </p>
      <table className="w-full border-collapse text-[13px]" aria-rowcount={sorted.length + 1}>
        <thead>
          <tr className="border-b border-hair text-left text-[11px] text-muted">
            {picked && (
              <th className="py-1 pr-3 font-normal">
                <PickAll label="Pick all that are shown" ids={ids} picked={picked} onPick={(on) => onPick(ids, on)} />
              </th>
            )}
            {columns.map((c, i) => (
              <th
                key={c.name}
                aria-sort={order.column === i ? (order.down ? "descending" : "ascending") : "none"}
                className={`py-1 pr-3 font-normal ${c.right ? "text-right" : ""} ${c.small ? "max-lg:hidden" : ""}`}
              >
                <button
                  type="button"
                  className="min-h-6 hover:text-base-content"
                  onClick={() => setOrder((o) => ({ column: i, down: o.column === i && !o.down }))}
                >
                  {c.name}
                  <span aria-hidden="true">{order.column === i ? (order.down ? " ▾" : " ▴") : ""}</span>
                </button>
              </th>
            ))}
          </tr>
        </thead>
        <tbody ref={body}>
          <Gap height={first * rowHeight} />
          {sorted.slice(first, last).map((node) => (
            <Row key={node.id} node={node} picked={picked ? picked.has(node.id) : null} onPress={press} />
          ))}
          <Gap height={(sorted.length - last) * rowHeight} />
        </tbody>
      </table>
    </>
  );
}

/** Stands for rows that are out of sight. */
function Gap({ height }: { height: number }) {
  return height > 0 ? (
    <tr aria-hidden="true">
      <td style={{ height }} />
    </tr>
  ) : null;
}

/** One node. It is drawn anew only when something about it has changed: of
 * thousands most are as they were. */
const Row = memo(function Row({
  node,
  picked,
  onPress,
}: {
  node: FarmNode;
  picked: boolean | null;
  onPress: (node: FarmNode, event: MouseEvent<HTMLInputElement>) => void;
}) {
  return (
    <tr data-still className="border-b border-hair hover:bg-base-200">
      {picked !== null && (
        <td className="py-[5px] pr-3">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            aria-label={`Pick ${node.name}`}
            checked={picked}
            onChange={() => undefined}
            onClick={(event) => onPress(node, event)}
          />
        </td>
      )}
      <td className="py-[5px] pr-3">
        <Link
          data-row
          to={`/nodes/${node.id}`}
          title={node.name}
          className="flex items-center gap-2 font-semibold whitespace-nowrap hover:underline"
        >
          <Standard node={node} className="h-6 w-4 shrink-0" />
          <span className="max-w-[220px] truncate max-sm:max-w-[110px]">{node.name}</span>
        </Link>
      </td>
      <td className="pr-3 whitespace-nowrap">
        <StateWord state={node.state} />
        {node.findings.length > 0 && (
          <span className="ml-2 font-semibold text-held" title={told(node.findings.map((f) => f.sentence).join(" "))}>
            ! {node.findings.map((f) => f.kind).join(", ")}
          </span>
        )}
      </td>
      <td className="w-full max-w-0 truncate pr-3 text-muted" title={told(node.why)}>
        <Now node={node} />
      </td>
      <td className="pr-3 max-lg:hidden">
        {node.reach === "online" && <Gauge name="Processor" part={node.processor} />}
      </td>
      <td className="pr-3 max-lg:hidden">
        {node.reach === "online" && <Gauge name="Memory" part={node.memory_used} text={amount(node.memory_bytes)} />}
      </td>
      <td className="num pr-3 text-right">{node.speed.toFixed(2)}</td>
      <td className="max-w-[140px] truncate pr-3 text-muted max-lg:hidden" title={node.settings.pools.join(", ")}>
        {node.settings.pools.join(", ")}
      </td>
    </tr>
  );
});

/** What a node does now, or why it does nothing. */
export function Now({ node }: { node: FarmNode }) {
  const w = node.works[0];
  if (!w) {
    return <>{told(node.why)}</>;
  }
  return (
    <>
      <WorkNow work={w} />
      {node.works.length > 1 && `, and ${node.works.length - 1} beside it`}
    </>
  );
}

/** Where a lease is. */
export function WorkNow({ work: w }: { work: Work }) {
  return (
    <>
      <RunLink
        run={w.run}
        name={w.run_name}
        className="text-base-content underline decoration-hair underline-offset-2"
      />{" "}
      {w.frame === null ? (
        `${w.phase} ${w.detail}`.trim()
      ) : (
        <>
          frame <span className="num text-base-content">{w.frame}</span>,{" "}
          {w.phase === "rendering" ? <span className="num">{Math.round(100 * w.fraction)} %</span> : w.phase}
          {w.detail && <span className="text-failed">, {w.detail}</span>}
        </>
      )}
      {w.checking && `; ${w.checking}`}
    </>
  );
}
