import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { Problem, type Receipt, submitJobs } from "../../api/client";
import { sentence } from "../../parts/time";

type Receipts = Awaited<ReturnType<typeof submitJobs>>;

/** Runs beyond these are counted, not listed. */
const mostListed = 12;

interface Props {
  text: string;
  proof: boolean;
  receipts?: Receipts; // that would come
  error: Error | null;
  fresh: boolean; // they are of what the form says now
  onDone: () => void; // it was submitted
  onClear: (() => void) | null; // null: the form is untouched
}

/** The receipt that would come for what the form says, and the one that came. */
export function ReceiptPart({ text, proof, receipts, error, fresh, onDone, onClear }: Props) {
  const [done, setDone] = useState<Receipts | null>(null);
  const [under, setUnder] = useState(false);
  const [problem, setProblem] = useState("");
  const key = useRef<{ of: string; key: string } | null>(null);
  const queries = useQueryClient();
  const submit = async () => {
    const of = `${proof}\n${text}`;
    // Pressed again after an answer that got lost, it is submitted once.
    if (key.current?.of !== of) {
      key.current = { of, key: newKey() };
    }
    setUnder(true);
    setProblem("");
    try {
      setDone(await submitJobs({ text, proof }, key.current.key));
      key.current = null;
      onDone();
      void queries.invalidateQueries({ queryKey: ["farm"] });
      void queries.invalidateQueries({ queryKey: ["receipt"] });
    } catch (e) {
      setProblem((e as Error).message);
    } finally {
      setUnder(false);
    }
  };
  const several = (receipts?.receipts.length ?? 0) > 1;
  return (
    <section aria-label="Receipt">
      {done && (
        <div role="status" className="mb-3 border-l-2 border-done bg-base-200 px-3 py-2">
          {done.receipts.slice(0, mostListed).map((r) => (
            <p key={r.run} className="text-[13px]">
              <span className="text-done">✓</span>{" "}
              <Link to={`/runs/${r.run}`} className="font-semibold hover:underline">
                {r.name}
              </Link>{" "}
              <span className="text-muted">is in the queue</span>
            </p>
          ))}
          {done.receipts.length > mostListed && (
            <p className="text-xs text-muted">
              and {done.receipts.length - mostListed} more; they are all on the{" "}
              <Link to="/queue" className="underline">
                queue
              </Link>
            </p>
          )}
        </div>
      )}
      <h2 className="section">
        <b>Receipt</b> {done ? "that another one would get" : "that would come"}
      </h2>
      <div className={fresh ? "" : "opacity-60"} role="status">
        {error ? (
          <Wrong error={error} />
        ) : receipts ? (
          receipts.receipts.slice(0, mostListed).map((r) => <One key={r.name} of={r} alone={!several} />)
        ) : (
          <p className="text-[13px] text-muted">Checking …</p>
        )}
        {several && !error && receipts && (
          <p className="py-1 text-[13px]">
            <span className="num">{receipts.receipts.length}</span> runs,{" "}
            <span className="num">{receipts.frame_count}</span> frames; all of them, or none.
          </p>
        )}
      </div>
      {problem && (
        <p role="alert" className="mt-2 text-[13px] text-failed">
          ✕ {sentence(problem)}
        </p>
      )}
      <button
        type="button"
        className="btn mt-3 w-full btn-primary"
        disabled={!fresh || error !== null || !receipts || under}
        onClick={() => void submit()}
      >
        {effect(proof, receipts)}
      </button>
      {onClear && (
        <button type="button" className="btn mt-2 w-full btn-ghost btn-sm" onClick={onClear}>
          Clear the form
        </button>
      )}
    </section>
  );
}

/** The label of the button: what pressing it does. */
function effect(proof: boolean, receipts?: Receipts): string {
  const runs = receipts?.receipts.length ?? 0;
  const frames = receipts ? counted(receipts.frame_count, "frame") : "";
  switch (true) {
    case runs === 0:
      return proof ? "Queue the proof" : "Queue";
    case proof:
      return `Queue the ${runs === 1 ? "proof" : `${runs} proofs`}, ${frames}`;
    case runs === 1:
      return `Queue ${frames}`;
    default:
      return `Queue ${counted(runs, "run")}, ${frames}`;
  }
}

const counted = (n: number, what: string) => `${n} ${what}${n === 1 ? "" : "s"}`;

function One({ of, alone }: { of: Receipt; alone: boolean }) {
  return (
    <div className="border-b border-hair py-1.5 text-[13px]">
      <p>
        <b className="font-semibold">{of.name}</b>{" "}
        <span className="text-muted">
          {of.tiles > 0 ? (
            <>
              frame <span className="num">{of.frames}</span> in <span className="num">{of.tiles}</span>{" "}
              {of.tiles === 1 ? "tile" : "tiles"}
            </>
          ) : (
            <>
              <span className="num">{of.frame_count}</span> {of.frame_count === 1 ? "frame" : "frames"}
            </>
          )}
          {of.state !== "queued" && ` · ${of.state}`}
        </span>
      </p>
      {alone && of.sentence && <p>{sentence(of.sentence)}</p>}
      <p className="num text-xs break-all text-muted">{of.output}</p>
      {of.remarks.map((r) => (
        <p key={r} className="text-muted">
          {sentence(r)}
        </p>
      ))}
    </div>
  );
}

function Wrong({ error }: { error: Error }) {
  const mistakes = error instanceof Problem ? error.mistakes : [];
  const all = mistakes.length > 0 ? mistakes.map((m) => m.what) : [error.message];
  return (
    <>
      {all.map((what) => (
        <p key={what} className="text-[13px] text-failed">
          ✕ {sentence(what)}
        </p>
      ))}
    </>
  );
}

/** A key under which something is submitted once; also where a page came without TLS. */
function newKey(): string {
  return [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, "0")).join("");
}
