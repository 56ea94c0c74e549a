import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { Link, useParams } from "react-router";
import { contactSheet, type FarmNode, getRun, isWrangler, type Me, maySteer, type Run } from "../../api/client";
import { useFarm } from "../../api/live";
import { useAddress } from "../../parts/address";
import { Facts } from "../../parts/Facts";
import { Finish } from "../../parts/Finish";
import { FrameIndex } from "../../parts/frames";
import { amount } from "../../parts/Gauge";
import { MendedButton, mayBeMended } from "../../parts/MendedButton";
import { Notice, Waits } from "../../parts/Notice";
import { Ribbon } from "../../parts/Ribbon";
import { Standard } from "../../parts/Standard";
import { StateWord } from "../../parts/StateWord";
import { frameStates } from "../../parts/states";
import { needsMending, SteerButtons } from "../../parts/steering";
import { sentence, span, told, useNow, whole } from "../../parts/time";
import { useTitle } from "../../parts/title";
import { ChangeDialog } from "./ChangeDialog";
import { ContactSheet } from "./ContactSheet";
import { DiffersPart } from "./DiffersPart";
import { FinalButton } from "./FinalButton";
import { FrameMap } from "./FrameMap";
import { HappenedPart } from "./HappenedPart";
import { StepsPart } from "./StepsPart";
import { TilesPart } from "./TilesPart";
import { Suspects, Troubles } from "./TroublePart";
import { useTimings } from "./timings";
import { Viewer } from "./Viewer";
import { WhyPart } from "./WhyPart";

/** One run: where it stands, its frames, its pictures and who renders it. */
export function RunPage({ me }: { me: Me }) {
  const params = useParams();
  const id = Number(params.run);
  const farm = useFarm();
  const listed = farm.data?.runs.find((r) => r.id === id);
  // An old run is not in the farm's list; it is asked for by itself.
  const numbered = Number.isSafeInteger(id) && id > 0;
  const alone = useQuery({
    queryKey: ["run", id],
    queryFn: () => getRun(id),
    enabled: numbered && farm.data !== undefined && listed === undefined,
  });
  const run = listed ?? alone.data;
  if (run) {
    return (
      <RunView
        run={run}
        runs={farm.data?.runs ?? []}
        nodes={farm.data?.nodes ?? []}
        project={farm.data?.projects.find((p) => p.name === run.project)?.title ?? run.project}
        me={me}
      />
    );
  }
  if (alone.isError || !numbered) {
    return (
      <Notice
        title="There is no such run"
        text={
          numbered
            ? sentence(alone.error!.message)
            : `${params.run} is not the number of a run. The address may be mistyped or cut off.`
        }
      >
        <Link to="/queue" className="btn btn-sm">
          To the queue
        </Link>
      </Notice>
    );
  }
  return <Waits query={farm.data === undefined ? farm : alone} what="Reading the run …" />;
}

interface RunViewProps {
  run: Run;
  runs: Run[]; // of the farm
  nodes: FarmNode[];
  project: string;
  me: Me;
}

function RunView({ run, runs, nodes, project, me }: RunViewProps) {
  const now = useNow();
  useTitle(`${run.job} ${run.kind} ${run.number}`);
  const [address, change] = useAddress();
  const [changing, setChanging] = useState(false);
  const index = useMemo(() => new FrameIndex(run.frames), [run.frames]);
  const states = useMemo(() => frameStates(run.sets, index), [run.sets, index]);
  const timings = useTimings(run);
  // The chosen frame stands in the address, so that it can be sent to somebody.
  const wanted = address.get("frame");
  const chosen = wanted !== null && /^-?\d+$/.test(wanted) && index.place(Number(wanted)) >= 0 ? Number(wanted) : null;
  const setChosen = useCallback(
    (frame: number | null) => change({ frame: frame === null ? "" : String(frame) }),
    [change],
  );
  const shown = chosen ?? run.newest;
  return (
    <main className="max-w-[1204px] min-[106rem]:max-w-[1812px] px-4 pt-[14px] pb-8 sm:px-6">
      <p className="text-xs text-muted">
        <Link to="/queue" className="hover:text-base-content">
          Queue
        </Link>{" "}
        /{" "}
        <Link to={`/queue?project=${encodeURIComponent(run.project)}`} className="hover:text-base-content">
          {project}
        </Link>{" "}
        / {run.owner}
        {run.priority !== "normal" && ` / ${run.priority}`}
      </p>
      <header className="flex flex-wrap items-start gap-x-6 gap-y-3 border-b border-hair pb-3">
        <div className="min-w-0 flex-1">
          <h1 className="text-xl font-[650] break-words">
            {run.job}{" "}
            <span className="text-sm font-normal text-brass">
              {run.kind} {run.number}
            </span>
          </h1>
          <p className="text-[13px]">
            <StateWord state={run.state} /> <span className="break-words text-muted">{told(run.why, now)}</span>
          </p>
        </div>
        <Finish run={run} now={now} />
        {maySteer(me, run) && (
          <div className="flex flex-wrap gap-2">
            {run.ended_at === null && (
              <button type="button" className="btn btn-sm" onClick={() => setChanging(true)}>
                Change
              </button>
            )}
            <SteerButtons run={run} />
            {mayBeMended(run) && (
              <MendedButton run={run} className={`btn btn-sm ${needsMending(run) ? "btn-primary" : ""}`} />
            )}
            {run.has_final && <FinalButton run={run} />}
          </div>
        )}
      </header>
      {wanted !== null && chosen === null && (
        <p role="alert" className="mt-2 text-failed">
          <span aria-hidden="true">✕ </span>
          {run.name} has no frame {wanted}; its frames are {run.frames}.
        </p>
      )}
      {changing && <ChangeDialog run={run} me={me} onClose={() => setChanging(false)} />}
      <div className="mt-3">
        <Ribbon run={run} height={22} />
        <p className="mt-1 text-xs text-muted">
          <span className="num">{run.done_count}</span> of <span className="num">{run.frame_count}</span>{" "}
          {run.tiles ? "tiles" : run.frame_count === 1 ? "frame" : "frames"} done
          {run.started_at &&
            ` · ${run.ended_at ? "took" : "for"} ${span(new Date(run.ended_at ?? now).getTime() - new Date(run.started_at).getTime())}`}
        </p>
      </div>
      <StepsPart run={run} runs={runs} />
      <div className="mt-4 grid grid-cols-1 gap-6 lg:grid-cols-[minmax(0,1fr)_560px] min-[106rem]:grid-cols-[minmax(0,1fr)_1080px]">
        <div className="min-w-0">
          {run.tiles && (
            <TilesPart run={run} index={index} states={states} timings={timings} chosen={shown} onChoose={setChosen} />
          )}
          <FrameMap run={run} index={index} states={states} timings={timings} chosen={shown} onChoose={setChosen} />
          <Workers run={run} nodes={nodes} />
          <Troubles run={run} timings={timings} now={now} may={maySteer(me, run)} mayTry={isWrangler(me)} />
          <Suspects run={run} may={maySteer(me, run)} onChoose={setChosen} />
        </div>
        <div className="min-w-0">
          <Viewer
            run={run}
            index={index}
            states={states}
            frame={shown}
            following={chosen === null}
            result={shown === null ? undefined : timings.get(shown)}
            onChoose={setChosen}
          />
          <WhyPart run={run} nodes={nodes} frame={shown} />
          <HappenedPart run={run} now={now} />
        </div>
      </div>
      <div className="mt-6 flex items-baseline gap-4">
        <h2 className="section">
          <b>Contact sheet</b> {run.done_count} of {run.frame_count}
        </h2>
        {run.done_count > 0 && (
          <a
            className="link text-xs text-muted"
            href={contactSheet(run.id)}
            download={`${run.job}-${run.kind}-${run.number}.png`}
          >
            save as a picture
          </a>
        )}
      </div>
      <ContactSheet run={run} index={index} states={states} chosen={shown} onChoose={setChosen} />
      <Settings run={run} />
      <DiffersPart run={run.id} />
    </main>
  );
}

/** The nodes at work, each with its frame. */
function Workers({ run, nodes }: { run: Run; nodes: FarmNode[] }) {
  const working = nodes.flatMap((node) => node.works.filter((w) => w.run === run.id).map((work) => ({ node, work })));
  if (working.length === 0) {
    return null;
  }
  const count = new Set(working.map(({ node }) => node.id)).size;
  return (
    <section aria-label="Nodes at work">
      <h2 className="section">
        <b>At work</b> {count === 1 ? "1 node" : `${count} nodes`}
        {working.length > count && `, ${working.length} leases`}
      </h2>
      <ul className="grid grid-cols-1 gap-x-4 sm:grid-cols-2">
        {working.map(({ node, work }) => (
          <li key={work.lease} className="flex items-center gap-3 border-b border-hair py-[5px]">
            <Standard node={{ ...node, works: [work] }} className="h-6 w-4" />
            <Link to={`/nodes/${node.id}`} title={node.name} className="w-24 truncate font-semibold hover:underline">
              {node.name}
            </Link>
            <span className="min-w-0 flex-1 truncate text-xs text-muted">
              {work.frame === null ? (
                `${work.phase} ${work.detail}`
              ) : (
                <>
                  frame <span className="num text-base-content">{work.frame}</span>
                  {work.phase === "rendering" ? "" : `, ${work.phase}`}
                  {work.detail && (
                    <span className="text-failed" title={work.detail}>
                      , {work.detail}
                    </span>
                  )}
                </>
              )}
              {work.checking && `; ${work.checking}`}
            </span>
            <span className="num text-xs text-muted">{`${Math.round(100 * work.fraction)} %`}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What a lease takes of its node, where that is less than all. */
function takes({ takes: t, memory_peak_bytes: peak }: Run): string {
  const parts = [
    t.cores ? (t.cores === 1 ? "1 core" : `${t.cores} cores`) : "",
    t.memory_bytes ? amount(t.memory_bytes) : "",
    t.devices ? (t.devices === 1 ? "1 graphics device" : `${t.devices} graphics devices`) : "",
  ];
  const text = parts.filter(Boolean).join(", ") || "the whole node";
  return peak > 0 ? `${text}; a launch grows to ${amount(peak)}` : text;
}

/** The account, group, file mask and variables that its renderers are launched with. */
function launchSettings({ launch_settings: e }: Run): string {
  const set = [
    e.account && `account ${e.account}`,
    e.group && `group ${e.group}`,
    e.mask && `mask ${e.mask}`,
    ...Object.entries(e.variables ?? {}).map(([name, value]) => `${name}=${value}`),
  ];
  return set.filter(Boolean).join(", ");
}

/** What nodes have answered that were asked by themselves. */
function preflown({ preflight: p }: Run): string {
  if (!p) {
    return "";
  }
  const all = p.passing + p.failing;
  const said = `${p.passing} of ${all} ${all === 1 ? "node" : "nodes"} ${p.passing === 1 ? "passes" : "pass"}, asked ${whole(p.at)}`;
  return p.sentence ? `${said}. ${told(p.sentence)}` : said;
}

/** From which preset it has its settings, and what of it is otherwise. */
function preset({ preset: p }: Run): string {
  if (!p) {
    return "";
  }
  const changed = p.changed.map((c) => c.replace(/^values\./, ""));
  return `${p.name}, version ${p.version}${changed.length > 0 ? `; changed here: ${changed.join(", ")}` : ""}`;
}

function Settings({ run }: { run: Run }) {
  const rows: [string, string][] = [
    ["scene", run.bundle ? `${run.scene} of the bundle ${run.bundle.slice(0, 12)}` : run.scene],
    ["frames", run.frames],
    ["shot range", run.shot],
    ["size", `${run.width} × ${run.height}`],
    ["recipe", run.recipe_version ? `${run.recipe}, version ${run.recipe_version}` : run.recipe],
    ["renderer", run.renderer],
    ["preset", preset(run)],
    ["preflight", preflown(run)],
    ["needs", run.needs],
    ["priority", run.priority === "normal" ? "" : run.priority],
    ["ceiling", run.ceiling],
    ["due", run.due === null ? "" : whole(run.due)],
    ["order of frames", run.sequence],
    ["scouts", run.scouts],
    ["a lease takes", takes(run)],
    ["account and variables", launchSettings(run)],
    [
      "settings",
      Object.entries(run.values)
        .map(([name, value]) => `${name} ${value}`)
        .join(", "),
    ],
    ["passes", run.passes.join(", ")],
    ["output", run.output],
    ["tries a frame", String(run.tries)],
    ["submitted", `${whole(run.submitted_at)} by ${run.owner}`],
  ];
  return (
    <section aria-label="Settings">
      <h2 className="section">
        <b>Settings</b>
      </h2>
      <Facts rows={rows} />
    </section>
  );
}
