import type { FarmNode } from "../../api/client";
import { amount } from "../../parts/Gauge";
import { WorkNow } from "../nodes/NodeTable";

/** The leases that a node works on side by side, with what each owns. */
export function WorksPart({ node }: { node: FarmNode }) {
  if (node.works.length === 0 || (node.works.length === 1 && node.works[0].share.cores === "")) {
    return null;
  }
  return (
    <table className="mt-1 w-full text-[12.5px]" aria-label="Leases side by side">
      <thead>
        <tr className="border-b border-hair text-left text-[11px] text-muted">
          <th className="py-1 pr-3 text-right font-normal">lease</th>
          <th className="pr-3 font-normal">now</th>
          <th className="pr-3 font-normal">cores</th>
          <th className="pr-3 font-normal">memory</th>
          <th className="font-normal">devices</th>
        </tr>
      </thead>
      <tbody>
        {node.works.map((w) => (
          <tr key={w.lease} className="border-b border-hair">
            <td className="num py-[3px] pr-3 text-right text-muted">{w.lease}</td>
            <td className="w-full max-w-0 truncate pr-3 text-muted">
              <WorkNow work={w} />
            </td>
            <td className="num pr-3">{w.share.cores || "all"}</td>
            <td className="num pr-3 whitespace-nowrap">
              {w.memory_bytes > 0 ? amount(w.memory_bytes) : "–"}
              {w.share.memory_bytes > 0 && <span className="text-muted"> of {amount(w.share.memory_bytes)}</span>}
            </td>
            <td className="num whitespace-nowrap text-muted">{w.share.devices.join(" ") || "–"}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
