import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import { type FarmNode, getNodeTrouble, type NodeTrouble, renderByHand } from "../../api/client";
import { EvidenceGrid, nodesOf } from "../../parts/EvidenceGrid";
import { TrialPart, useTrial } from "../../parts/TrialPart";
import { byHand, TriesBeside } from "../../parts/Tries";
import { clock, useNow } from "../../parts/time";

/** Frames whose tries are listed at once. */
const mostListed = 6;

/** What failed on the node, beside what came of the same frames on others; nothing where
 * nothing has. */
export function TroublePart({ node, mayTry }: { node: FarmNode; mayTry: boolean }) {
  const now = useNow(30_000);
  const [all, setAll] = useState(false);
  const trouble = useQuery({
    queryKey: ["node", node.id, "trouble", node.health],
    queryFn: () => getNodeTrouble(node.id),
    refetchInterval: 10_000,
    placeholderData: (old) => old,
  });
  const frames = trouble.data?.frames ?? [];
  const grid = useMemo(
    () => ({
      rows: frames.map((f) => ({
        key: `${f.run}.${f.frame}`,
        name: `${f.run_name} ${f.frame}`,
        to: `/runs/${f.run}?frame=${f.frame}`,
        tries: [...f.tries, ...f.elsewhere],
        doneOn: f.good_on,
      })),
      nodes: [
        node.name,
        ...nodesOf(
          frames.flatMap((f) => f.elsewhere),
          frames.flatMap((f) => (f.good_on ? [f.good_on] : [])),
        ).filter((name) => name !== node.name),
      ],
    }),
    [frames, node.name],
  );
  if (trouble.isError || frames.length === 0) {
    return null;
  }
  return (
    <section aria-label="Trouble">
      <h2 className="section">
        <b>Trouble</b> what failed here, and what others made of it
      </h2>
      <p className="mt-1 text-[13px]">{trouble.data?.sentence}</p>
      <EvidenceGrid of="frame" rows={grid.rows} nodes={grid.nodes} now={now} />
      <ul>
        {frames.slice(0, all ? undefined : mostListed).map((f) => (
          <Failed key={`${f.run}.${f.frame}`} of={f} node={node} now={now} mayTry={mayTry} />
        ))}
      </ul>
      {!all && frames.length > mostListed && (
        <button type="button" className="btn mt-2 btn-sm" onClick={() => setAll(true)}>
          Show all {frames.length}
        </button>
      )}
      {(all || frames.length <= mostListed) && (trouble.data?.more ?? 0) > 0 && (
        <p className="mt-1 text-xs text-muted">and {trouble.data?.more} more that failed longer ago</p>
      )}
    </section>
  );
}

interface FailedProps {
  of: NodeTrouble["frames"][number];
  node: FarmNode;
  now: number;
  mayTry: boolean;
}

/** A frame that failed here: who is to blame, and its tries side by side where somebody wants them. */
function Failed({ of: f, node, now, mayTry }: FailedProps) {
  const [open, setOpen] = useState(false);
  const trial = useTrial();
  const tries = [...f.tries, ...f.elsewhere];
  const last = f.tries.at(-1);
  return (
    <li className="border-b border-hair py-2 text-[13px]">
      <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <span className="min-w-0 flex-1 basis-64">
          <Link to={`/runs/${f.run}?frame=${f.frame}`} className="hover:underline">
            {f.run_name} <span className="num">{f.frame}</span>
          </Link>{" "}
          <span className="text-failed">{last?.cause}</span>{" "}
          <span className="text-muted">
            {last && clock(last.at, now)}
            {f.blame.who && ` · to blame: ${f.blame.who}, ${f.blame.text}`}
          </span>
        </span>
        <button type="button" className="btn btn-xs" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Less" : "What was said"}
        </button>
        {mayTry && node.reach === "online" && (
          <button
            type="button"
            className="btn btn-xs"
            title={byHand}
            disabled={trial.under}
            onClick={() => trial.begin(renderByHand(f.run, f.frame, node.name))}
          >
            Render by hand
          </button>
        )}
      </p>
      {open && <TriesBeside of={tries} now={now} />}
      <TrialPart of={trial} />
    </li>
  );
}
