import type { FarmNode } from "../api/client";

/** A node as a small standard: a crossbar with a cloth that tells its state
 * by shape and fill. */
export function Standard({ node, className = "h-[33px] w-[22px]" }: { node: FarmNode; className?: string }) {
  const w = node.works[0];
  const beside = node.works.length > 1 ? `, and ${node.works.length - 1} beside it` : "";
  const said = w
    ? `${node.name}: rendering ${w.run_name}${w.frame === null ? "" : `, frame ${w.frame}`}${beside}`
    : `${node.name}: ${node.state}`;
  return (
    <svg className={className} viewBox="0 0 16 24" role="img" aria-label={said}>
      <title>{said}</title>
      <path d="M1 3.5H15" stroke="var(--brass)" strokeWidth="1.6" strokeLinecap="round" />
      <path d="M8 .8V3" stroke="var(--brass)" strokeWidth="1.4" />
      <Cloth node={node} />
    </svg>
  );
}

function Cloth({ node }: { node: FarmNode }) {
  const outline = (stroke: string, dash?: string) => (
    <rect x="3" y="5.5" width="10" height="15" fill="none" stroke={stroke} strokeDasharray={dash} />
  );
  switch (node.state) {
    case "rendering": {
      const strips = node.works.slice(0, 6); // side by side
      const wide = 11 / Math.max(1, strips.length);
      return (
        <>
          <rect x="2.5" y="5" width="11" height="16" fill="var(--s-rendering-dim)" />
          {strips.map((w, i) => (
            <rect
              key={w.lease}
              x={2.5 + i * wide}
              y={21 - 16 * w.fraction}
              width={wide - (strips.length > 1 ? 0.5 : 0)}
              height={16 * w.fraction}
              fill="var(--s-rendering)"
            />
          ))}
        </>
      );
    }
    case "held":
    case "draining":
      return (
        <>
          {outline("var(--s-held)")}
          <path d="M6 9v8M10 9v8" stroke="var(--s-held)" strokeWidth="1.8" />
        </>
      );
    case "off duty":
      return (
        <>
          {outline("var(--faint)")}
          <path d="M10 10.2a3.4 3.4 0 1 0 0 5.6 4.2 4.2 0 0 1 0-5.6z" fill="var(--faint)" />
        </>
      );
    case "sidelined":
      return <path d="M2.5 5h11v16l-5.5-4.6L2.5 21z" fill="var(--s-sidelined)" />;
    case "announced":
      return outline("var(--faint)", "1 3");
    case "away": // the cloth is furled
      return <path d="M3 6.5h10" stroke="var(--muted)" strokeWidth="2.4" strokeLinecap="round" />;
    case "silent":
      return outline("var(--muted)", "2 2");
    default:
      return outline("var(--s-todo)");
  }
}
