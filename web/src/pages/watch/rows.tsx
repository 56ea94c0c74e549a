import { Link } from "react-router";
import { type Me, maySteer, type Run, thumbnail } from "../../api/client";
import { Due, Finish } from "../../parts/Finish";
import { FrameImage } from "../../parts/FrameImage";
import { countFrames } from "../../parts/frames";
import { Ribbon } from "../../parts/Ribbon";
import { StateWord } from "../../parts/StateWord";
import { useSteer } from "../../parts/steering";
import { since, told, whole } from "../../parts/time";

const nodesText = (n: number) => (n === 1 ? "1 node" : `${n} nodes`);

/** The newest picture of a run in an empty frame of the same size. */
function Newest({ run, className }: { run: Run; className: string }) {
  return (
    <span className={`block overflow-hidden border border-hair ${className}`}>
      {run.newest !== null && (
        <FrameImage
          src={thumbnail(run.id, run.newest)}
          alt={`Frame ${run.newest} of ${run.name}`}
          className="h-full w-full object-cover"
        />
      )}
    </span>
  );
}

/** What a run's frames are doing, in one line. */
function Under({ run, now }: { run: Run; now: number }) {
  const failed = countFrames(run.sets.failed);
  return (
    <p className="mt-[5px] text-xs leading-4 text-muted">
      <span className="num">{run.done_count}</span> of <span className="num">{run.frame_count}</span> frames
      {run.nodes.length === 0 && <span className="text-base-content"> · {told(run.why, now)}</span>}
      {run.newest !== null && run.newest_at !== null && (
        <>
          {" "}
          · newest <span className="num">{run.newest}</span>, {since(run.newest_at, now)} ago
        </>
      )}
      {failed > 0 && (
        <>
          {" "}
          · <span className="text-failed">✕ {failed} failed, will be tried again</span>
        </>
      )}
      {run.parked_count > 0 && (
        <>
          {" "}
          · <span className="text-failed">▣ {run.parked_count} parked</span>
        </>
      )}
    </p>
  );
}

export function RenderingRow({ run, project, now }: { run: Run; project: string; now: number }) {
  return (
    <Link
      to={`/runs/${run.id}`}
      data-row
      data-still
      className="grid grid-cols-[96px_minmax(0,1fr)] items-center gap-x-[18px] gap-y-2 border-b border-hair py-[9px] hover:bg-base-200 lg:grid-cols-[96px_190px_minmax(0,1fr)_190px]"
    >
      <Newest run={run} className="h-[54px] w-24 rounded" />
      <div className="min-w-0">
        <h3 className="truncate text-[15px] font-[650]" title={run.name}>
          {run.job}{" "}
          <span className="text-xs font-normal text-brass">
            {run.kind} {run.number}
          </span>
        </h3>
        <p className="truncate text-xs text-muted" title={`${project}, ${run.owner}; ${run.nodes.join(", ")}`}>
          {project} · {nodesText(run.nodes.length)}
          {run.priority !== "normal" && ` · ${run.priority}`}
        </p>
      </div>
      <div className="min-w-0 max-lg:col-span-2">
        <Ribbon run={run} />
        <Under run={run} now={now} />
      </div>
      <div className="max-lg:col-span-2">
        <Finish run={run} now={now} />
      </div>
    </Link>
  );
}

const line =
  "grid items-center gap-x-[18px] gap-y-1 border-b border-hair py-[7px] text-[13px] text-muted hover:bg-base-200";

function Name({ run, project }: { run: Run; project: string }) {
  return (
    <Link
      to={`/runs/${run.id}`}
      data-row
      className="truncate py-[2px]"
      title={`${run.name} · ${project} · ${run.owner}`}
    >
      <b className="font-semibold text-base-content">{run.job}</b> {run.kind} {run.number} · {project}
    </Link>
  );
}

export function WaitingRow({ run, project, me, now }: { run: Run; project: string; me: Me; now: number }) {
  const { go } = useSteer();
  return (
    <div
      data-still
      className={`${line} grid-cols-[minmax(0,1fr)_auto] md:grid-cols-[286px_90px_minmax(0,1fr)_auto_auto]`}
    >
      <Name run={run} project={project} />
      <StateWord state={run.state} />
      <span className="min-w-0 max-md:col-span-2">
        {told(run.why, now)}
        <Due run={run} now={now} />
      </span>
      <span className="num whitespace-nowrap">
        {run.done_count > 0 ? `${run.done_count} of ${run.frame_count}` : run.frame_count}{" "}
        {run.frame_count === 1 ? "frame" : "frames"}
      </span>
      <span className="w-[74px] text-right">
        {run.state === "held" && maySteer(me, run) && (
          <button type="button" className="btn btn-xs" onClick={() => void go(run, "release")}>
            Release
          </button>
        )}
      </span>
    </div>
  );
}

export function EndedRow({ run, project, now }: { run: Run; project: string; now: number }) {
  return (
    <div
      data-still
      className={`${line} grid-cols-[44px_minmax(0,1fr)_auto] md:grid-cols-[44px_224px_130px_minmax(0,1fr)_auto]`}
    >
      <Newest run={run} className="h-[25px] w-11 rounded-[2px]" />
      <Name run={run} project={project} />
      <StateWord state={run.state} />
      <span className="min-w-0 truncate max-md:hidden" title={told(run.why, now)}>
        {told(run.why, now)}
      </span>
      <span className="num whitespace-nowrap max-md:hidden" title={run.ended_at ? whole(run.ended_at) : undefined}>
        {run.ended_at && `${since(run.ended_at, now)} ago`}
      </span>
    </div>
  );
}
