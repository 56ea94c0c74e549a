import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Preflight, preflight } from "../../api/client";
import { sentence } from "../../parts/time";

/** Passing nodes beyond these are counted, not listed, until somebody asks. */
const mostListed = 12;

interface Props {
  text: string;
  proof: boolean;
  ready: boolean;
  onWithout: (failing: string[]) => void;
}

/** Asks each node whether it really could, and shows the answers as a matrix. */
export function PreflightPart({ text, proof, ready, onWithout }: Props) {
  const [frame, setFrame] = useState(false);
  const [wanted, setWanted] = useState<{ text: string; proof: boolean; frame: boolean } | null>(null);
  const asked = useQuery({
    queryKey: ["preflight", wanted],
    queryFn: () => preflight(wanted!),
    enabled: wanted !== null,
    retry: false,
    gcTime: 0,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const old = wanted !== null && (wanted.text !== text || wanted.proof !== proof);
  const again = () => {
    const next = { text, proof, frame };
    if (wanted !== null && !old && wanted.frame === frame) {
      void asked.refetch();
    }
    setWanted(next);
  };
  return (
    <section aria-label="Preflight">
      <h2 className="section">
        <b>Preflight</b> each node is asked whether it really could
      </h2>
      <p className="flex flex-wrap items-center gap-4">
        <button type="button" className="btn btn-sm" disabled={!ready || asked.isFetching} onClick={again}>
          {wanted === null ? "Ask the nodes" : "Ask again"}
        </button>
        <label className="inline-flex items-center gap-2 text-[13px]">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={frame}
            onChange={(e) => setFrame(e.target.checked)}
          />
          each renders one small frame, too
        </label>
        {asked.isFetching && <span className="text-[13px] text-muted">Asking the nodes …</span>}
        {old && asked.data && !asked.isFetching && (
          <span className="text-[13px] text-held">The form has changed since.</span>
        )}
      </p>
      {asked.isError && (
        <p role="alert" className="mt-2 text-[13px] text-failed">
          ✕ {sentence(asked.error.message)}
        </p>
      )}
      {asked.data && !asked.isFetching && <Matrix of={asked.data} onWithout={onWithout} />}
    </section>
  );
}

function Matrix({ of, onWithout }: { of: Preflight; onWithout: (failing: string[]) => void }) {
  const [all, setAll] = useState(false);
  const failing = of.nodes.filter((n) => !n.passes);
  const shown = all ? of.nodes : of.nodes.slice(0, failing.length + mostListed);
  return (
    <div className="mt-2" aria-live="polite">
      <p className="text-[13px]">
        {of.passing === 1 ? "1 node passes" : `${of.passing} nodes pass`}
        {failing.length > 0 && `, ${failing.length === 1 ? "1 does not" : `${failing.length} do not`}`}
        {of.left > 0 && `; ${of.left} more were not asked`}. It took {of.seconds.toFixed(1)} s.
        {failing.length > 0 && of.passing > 0 && (
          <button type="button" className="btn ml-3 btn-xs" onClick={() => onWithout(failing.map((n) => n.name))}>
            Leave those out
          </button>
        )}
      </p>
      <div className="overflow-x-auto">
        <table className="mt-2 text-[12.5px]">
          <thead>
            <tr className="border-b border-hair text-left text-xs text-muted">
              <th className="py-1 pr-4 font-normal">node</th>
              {of.questions.map((q) => (
                <th key={q} className="px-2 py-1 text-center font-normal">
                  {q}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {shown.map((n) => (
              <tr key={n.id} className="border-b border-hair">
                <th className="py-1 pr-4 text-left font-semibold">
                  <Link to={`/nodes/${n.id}`} className="hover:underline">
                    {n.name}
                  </Link>
                </th>
                {n.answers.map((a) => (
                  <td
                    key={a.question}
                    className="px-2 text-center"
                    title={a.skipped ? "not asked" : [a.says, a.remedy].filter(Boolean).join(" – ")}
                  >
                    <span className={a.skipped ? "text-muted" : a.passes ? "text-done" : "text-failed"}>{mark(a)}</span>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {shown.length < of.nodes.length && (
        <button type="button" className="btn mt-1 btn-ghost btn-xs" onClick={() => setAll(true)}>
          Show the {of.nodes.length - shown.length} others that pass
        </button>
      )}
      <ul className="mt-2">
        {failing.map((n) => (
          <li key={n.id} className="border-b border-hair py-1 text-[13px]">
            <b className="font-semibold">{n.name}</b>{" "}
            {n.answers
              .filter((a) => !a.passes && a.says !== "")
              .map((a) => (
                <span key={a.question} className="block text-muted">
                  <span className="text-failed">✕ {a.question}:</span> {a.says}
                  {a.remedy && ` – ${a.remedy}`}
                </span>
              ))}
          </li>
        ))}
      </ul>
    </div>
  );
}

/** ✓ and ✕ for what was answered, and a stroke for what could not be asked. */
function mark(a: Preflight["nodes"][number]["answers"][number]): string {
  if (a.skipped) {
    return "–";
  }
  return a.passes ? "✓" : "✕";
}
