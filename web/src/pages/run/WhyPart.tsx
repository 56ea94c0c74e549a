import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { getWhy, type FarmNode, type Run } from "../../api/client";

/** The reason, in one sentence, for where a frame stands, and for what a node
 * does about the run. */
export function WhyPart({ run, nodes, frame }: { run: Run; nodes: FarmNode[]; frame: number | null }) {
  const [node, setNode] = useState("");
  const open = run.ended_at === null;
  const ofFrame = useQuery({ queryKey: ["why", run.id, "frame", frame, run.changed], queryFn: () => getWhy(run.id, { frame: String(frame) }), enabled: frame !== null, placeholderData: (old) => old });
  const ofNode = useQuery({ queryKey: ["why", run.id, "node", node, run.changed], queryFn: () => getWhy(run.id, { node }), enabled: node !== "" });
  return (
    <section aria-label="Why" className="mt-2 text-[12.5px] leading-[17px]">
      {frame !== null && ofFrame.data && <p>{capital(ofFrame.data.why)}.</p>}
      {open && nodes.length > 0 && (
        <p className="mt-1 flex flex-wrap items-center gap-2 text-muted">
          <select className="select w-44 select-xs" aria-label="Why does a node do what it does about this run" value={node} onChange={(event) => setNode(event.target.value)}>
            <option value="">why, or why not, on …</option>
            {nodes.map((n) => (
              <option key={n.id}>{n.name}</option>
            ))}
          </select>
          <span className="min-w-0 flex-1 text-base-content">{node !== "" && (ofNode.isError ? ofNode.error.message : ofNode.data && `${capital(ofNode.data.why)}.`)}</span>
        </p>
      )}
    </section>
  );
}

const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);
