import { useEffect, useRef, useState } from "react";
import { getHistory, type HistoryLine, type Run } from "../../api/client";
import { useLive } from "../../api/live";
import { clock, told, whole } from "../../parts/time";

const apart = 2000; // ms between two looks
const most = 300; // lines on the page

/** What happened to a run, the newest first. Only new lines are asked for. */
export function HappenedPart({ run, now }: { run: Run; now: number }) {
  const { line } = useLive();
  const [lines, setLines] = useState<HistoryLine[]>([]);
  const [trouble, setTrouble] = useState("");
  const state = useRef({ of: "", seq: 0, asked: 0 });
  const of = `${run.id} ${line}`;
  useEffect(() => {
    if (state.current.of !== of) {
      state.current = { of, seq: 0, asked: 0 };
      setLines([]);
    }
    const look = () => {
      state.current.asked = Date.now();
      getHistory(run.id, state.current.seq)
        .then((fresh) => {
          setTrouble("");
          if (state.current.of === of && fresh.length > 0) {
            state.current.seq = Math.max(state.current.seq, fresh[0].seq);
            setLines((old) => [...fresh, ...old.filter((l) => l.seq < fresh[fresh.length - 1].seq)].slice(0, most));
          }
        })
        .catch((error: Error) => setTrouble(error.message));
    };
    const timer = window.setTimeout(look, Math.max(0, state.current.asked + apart - Date.now()));
    return () => window.clearTimeout(timer);
  }, [run.id, run.changed, of]);
  return (
    <section aria-label="What happened">
      <h2 className="section">
        <b>What happened, and why</b>
      </h2>
      {trouble && <p className="text-failed">{trouble}</p>}
      <ol className="max-h-[156px] overflow-y-auto" tabIndex={0} aria-label="Log of the run, the newest first">
        {lines.map((l) => (
          <li
            key={l.seq}
            className="grid grid-cols-[76px_minmax(0,1fr)] gap-3 border-b border-hair py-1 text-[12.5px] leading-[17px]"
          >
            <span className="num text-faint" title={whole(l.at)}>
              {clock(l.at, now)}
            </span>
            <span className="break-words">
              <Moved how={l.moved} /> {told(l.reason, now)}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}

/** Marks what moved work from node to node. */
function Moved({ how }: { how: HistoryLine["moved"] }) {
  if (how === "take-over") {
    return (
      <span aria-hidden="true" title="take-over" className="text-brass">
        ⇄
      </span>
    );
  }
  return how === "race" ? (
    <span aria-hidden="true" title="race" className="text-brass">
      ⇉
    </span>
  ) : null;
}
