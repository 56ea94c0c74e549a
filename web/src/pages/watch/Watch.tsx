import { useEffect } from "react";
import { useFarm } from "../../api/live";
import { isWrangler, maySteer, type Me } from "../../api/client";
import { Notice } from "../../parts/Notice";
import { useNow } from "../../parts/time";
import { FarmLine } from "./FarmLine";
import { Hands } from "./Hands";
import { EndedRow, RenderingRow, WaitingRow } from "./rows";

const shownEnded = 8;

/** What needs a person, then what runs, then the rest. */
export function Watch({ me }: { me: Me }) {
  const farm = useFarm();
  const now = useNow();
  useRowKeys();
  if (farm.isPending) {
    return <Notice title="One moment" text="Reading the farm …" />;
  }
  if (farm.isError) {
    return <Notice title="The farm cannot be read" text={farm.error.message} />;
  }
  const { runs, nodes, projects, facts, needs_a_hand } = farm.data;
  const title = (name: string) => projects.find((p) => p.name === name)?.title || name;
  const rendering = runs.filter((r) => r.state === "rendering");
  const waiting = runs.filter((r) => r.ended_at === null && r.state !== "rendering");
  const ended = runs.filter((r) => r.ended_at !== null);
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-6 sm:px-6">
      <h1 className="sr-only">Watch</h1>
      <FarmLine nodes={nodes} facts={facts} now={now} />
      <Hands hands={needs_a_hand} runs={runs} may={(run) => maySteer(me, run)} wrangler={isWrangler(me)} />
      <h2 className="section">
        <b>Rendering</b> {count(rendering.length)}
      </h2>
      {rendering.length === 0 && (
        <p className="border-b border-hair py-2 text-muted">{waiting.length > 0 ? "Nothing renders at the moment; the reasons stand below." : "Nothing to render. Submit a scene with vexillum submit."}</p>
      )}
      {rendering.map((run) => (
        <RenderingRow key={run.id} run={run} project={title(run.project)} now={now} />
      ))}
      {waiting.length > 0 && (
        <>
          <h2 className="section">
            <b>Waiting</b> {count(waiting.length)}
          </h2>
          {waiting.map((run) => (
            <WaitingRow key={run.id} run={run} project={title(run.project)} me={me} now={now} />
          ))}
        </>
      )}
      {ended.length > 0 && (
        <>
          <h2 className="section">
            <b>Ended</b> {ended.length > shownEnded ? `the newest ${shownEnded} of ${ended.length}` : count(ended.length)}
          </h2>
          {ended.slice(0, shownEnded).map((run) => (
            <EndedRow key={run.id} run={run} project={title(run.project)} now={now} />
          ))}
        </>
      )}
    </main>
  );
}

const count = (n: number) => (n === 1 ? "1 run" : `${n} runs`);

/** j and k go through the runs. */
function useRowKeys() {
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if ((event.key !== "j" && event.key !== "k") || /^(INPUT|TEXTAREA|SELECT)$/.test((event.target as HTMLElement).tagName)) {
        return;
      }
      const rows = [...document.querySelectorAll<HTMLElement>("[data-row]")];
      const at = rows.findIndex((row) => row === document.activeElement);
      const next = event.key === "j" ? at + 1 : Math.max(0, at - 1);
      rows[Math.min(next, rows.length - 1)]?.focus();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
}
