import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { type FarmNode, getWhy, type Run } from "../../api/client";
import { sentence } from "../../parts/time";

/** The reason, in one sentence, for where a frame stands, and for what a node
 * does about the run. */
export function WhyPart({ run, nodes, frame }: { run: Run; nodes: FarmNode[]; frame: number | null }) {
  const [node, setNode] = useState("");
  const open = run.ended_at === null;
  const stamp = useEvery(run.changed, 2000);
  const ofFrame = useQuery({
    queryKey: ["why", run.id, "frame", frame, stamp],
    queryFn: () => getWhy(run.id, { frame: frame! }),
    enabled: frame !== null,
    placeholderData: (old) => old,
  });
  const ofNode = useQuery({
    queryKey: ["why", run.id, "node", node, stamp],
    queryFn: () => getWhy(run.id, { node }),
    enabled: node !== "",
    placeholderData: (old) => old,
  });
  return (
    <section aria-label="Why" className="mt-2 break-words text-[12.5px] leading-[17px]">
      {frame !== null && ofFrame.data && <p>{sentence(ofFrame.data.why)}.</p>}
      {open && nodes.length > 0 && (
        <p className="mt-1 flex flex-wrap items-center gap-2 text-muted">
          <select
            className="select w-44 max-w-full select-xs"
            aria-label="Ask about one node"
            value={node}
            onChange={(event) => setNode(event.target.value)}
          >
            <option value="">why, or why not, on …</option>
            {nodes.map((n) => (
              <option key={n.id}>{n.name}</option>
            ))}
          </select>
          <span className="min-w-0 flex-1 text-base-content">
            {node !== "" && (ofNode.isError ? ofNode.error.message : ofNode.data && `${sentence(ofNode.data.why)}.`)}
          </span>
        </p>
      )}
    </section>
  );
}

/** A value that is taken over at most once in so many ms. */
function useEvery<T>(value: T, ms: number): T {
  const [taken, setTaken] = useState(value);
  const at = useRef(0);
  useEffect(() => {
    const timer = window.setTimeout(
      () => {
        at.current = Date.now();
        setTaken(value);
      },
      Math.max(0, at.current + ms - Date.now()),
    );
    return () => window.clearTimeout(timer);
  }, [value, ms]);
  return taken;
}
