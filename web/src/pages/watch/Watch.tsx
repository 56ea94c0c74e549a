import { Link } from "react-router";
import { isArtist, isWrangler, type Me, maySteer, type Run } from "../../api/client";
import { useFarm } from "../../api/live";
import { Notice, Waits } from "../../parts/Notice";
import { StillArea, useStill, Waiting } from "../../parts/still";
import { useNow } from "../../parts/time";
import { useTitle } from "../../parts/title";
import { FarmLine } from "./FarmLine";
import { Hands } from "./Hands";
import { EndedRow, RenderingRow, WaitingRow } from "./rows";

const shownWaiting = 12;
const shownEnded = 8;

/** What needs a person, then what runs, then the rest. */
export function Watch({ me }: { me: Me }) {
  useTitle("Watch");
  return (
    <StillArea>
      <WatchView me={me} />
    </StillArea>
  );
}

const idOf = (run: Run) => run.id;
const none: Run[] = [];

function WatchView({ me }: { me: Me }) {
  const farm = useFarm();
  const now = useNow();
  const runs = farm.data?.runs ?? none;
  const read = farm.data ? "read" : "";
  const rendering = useStill(
    runs.filter((r) => r.state === "rendering"),
    idOf,
    read,
  );
  const waiting = useStill(
    runs.filter((r) => r.ended_at === null && r.state !== "rendering"),
    idOf,
    read,
  );
  const ended = useStill(
    runs.filter((r) => r.ended_at !== null),
    idOf,
    read,
  );
  if (farm.isError) {
    return <Notice title="The farm cannot be read" text={farm.error.message} />;
  }
  if (farm.data === undefined) {
    return <Waits query={farm} what="Reading the farm …" />;
  }
  const { nodes, projects, facts, needs_a_hand } = farm.data;
  const title = (name: string) => projects.find((p) => p.name === name)?.title || name;
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-6 sm:px-6">
      <h1 className="sr-only">Watch</h1>
      <FarmLine nodes={nodes} facts={facts} now={now} />
      <Hands hands={needs_a_hand} runs={runs} may={(run) => maySteer(me, run)} wrangler={isWrangler(me)} />
      <h2 className="section">
        <b>Rendering</b> {count(rendering.shown.length)} <Waiting count={rendering.waiting} />
      </h2>
      {rendering.shown.length === 0 && (
        <p className="border-b border-hair py-2 text-muted">
          {waiting.shown.length > 0 ? (
            "Nothing renders at the moment; the reasons are below."
          ) : isArtist(me) ? (
            <>
              There is nothing to render.{" "}
              <Link to="/submit" className="underline">
                Submit a scene
              </Link>
              .
            </>
          ) : (
            "There is nothing to render."
          )}
        </p>
      )}
      {rendering.shown.map((run) => (
        <RenderingRow key={run.id} run={run} project={title(run.project)} now={now} />
      ))}
      {waiting.shown.length > 0 && (
        <>
          <h2 className="section">
            <b>Waiting</b> {count(waiting.shown.length)} <Waiting count={waiting.waiting} />
          </h2>
          {waiting.shown.slice(0, shownWaiting).map((run) => (
            <WaitingRow key={run.id} run={run} project={title(run.project)} me={me} now={now} />
          ))}
          {waiting.shown.length > shownWaiting && (
            <More to="/queue?state=held,waiting,queued">all {waiting.shown.length} that wait</More>
          )}
        </>
      )}
      {ended.shown.length > 0 && (
        <>
          <h2 className="section">
            <b>Ended</b> <Waiting count={ended.waiting} />
          </h2>
          {ended.shown.slice(0, shownEnded).map((run) => (
            <EndedRow key={run.id} run={run} project={title(run.project)} now={now} />
          ))}
          <More to="/queue?state=ended">all that ever ended</More>
        </>
      )}
    </main>
  );
}

function More({ to, children }: { to: string; children: React.ReactNode }) {
  return (
    <p className="py-2 text-[13px]">
      <Link data-row to={to} className="link text-muted">
        {children}
      </Link>
    </p>
  );
}

const count = (n: number) => (n === 1 ? "1 run" : `${n} runs`);
