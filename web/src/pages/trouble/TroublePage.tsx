import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import {
  getLately,
  getTrouble,
  isArtist,
  type Me,
  maySteer,
  type Run,
  retryParked,
  type TroubleGroup,
} from "../../api/client";
import { useFarm } from "../../api/live";
import { useAddress } from "../../parts/address";
import { Choice } from "../../parts/Choice";
import { FailuresOver } from "../../parts/FailuresOver";
import { countFramesText, useSteer } from "../../parts/steering";
import { sentence, since, useNow } from "../../parts/time";
import { useTitle } from "../../parts/title";
import { useToast } from "../../parts/toast";

const ways = ["cause", "node", "recipe", "run"];
const whiles: Record<string, number> = { all: 0, "7 days": 168, "24 h": 24, "1 h": 1 };

/** What has failed and nobody has asked to be tried again, put together. */
export function TroublePage({ me }: { me: Me }) {
  useTitle("Trouble");
  const [address, change] = useAddress();
  const by = ways.find((w) => w === address.get("by")) ?? ways[0];
  const over = address.get("over") ?? "all";
  const hours = whiles[over] ?? 0;
  const trouble = useQuery({
    queryKey: ["trouble", by, hours],
    queryFn: () => getTrouble(by, hours),
    refetchInterval: 5000,
    placeholderData: keepPreviousData,
  });
  const groups = trouble.data ?? [];
  const runs = useFarm().data?.runs ?? [];
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-8 sm:px-6">
      <header className="flex flex-wrap items-end gap-x-6 gap-y-2 border-b border-hair pb-3">
        <div className="min-w-0 flex-1 max-sm:basis-full">
          <h1 className="text-xl font-[650]">Trouble</h1>
          <p className="text-[13px] text-muted">
            What failed, until somebody has asked for it to be tried again: first what is not done yet.
          </p>
        </div>
        <span className="flex items-center gap-2 text-xs text-muted">
          by <Choice label="Put together by" options={ways} chosen={by} onChoose={(w) => change({ by: w })} />
        </span>
        <span className="flex items-center gap-2 text-xs text-muted">
          over{" "}
          <Choice
            label="Over"
            options={Object.keys(whiles)}
            chosen={over in whiles ? over : "all"}
            onChoose={(w) => change({ over: w === "all" ? "" : w })}
          />
        </span>
      </header>
      <Over hours={hours || 24} />
      {trouble.isError && <p className="py-3 text-failed">✕ {trouble.error.message}</p>}
      {trouble.data && groups.length === 0 && (
        <p className="py-6 text-muted">Nothing has failed that somebody would have to look at.</p>
      )}
      {groups.map((g) => (
        <Group key={`${g.key} ${g.blame.who}`} of={g} by={by} runs={runs} me={me} />
      ))}
    </main>
  );
}

/** Failed tries over the time that is looked at, also those that were asked to be tried again. */
function Over({ hours }: { hours: number }) {
  const now = useNow(30_000);
  const lately = useQuery({
    queryKey: ["lately", hours],
    queryFn: () => getLately(hours),
    refetchInterval: 15_000,
    placeholderData: keepPreviousData,
  });
  if (!lately.data || lately.data.tries === 0) {
    return null;
  }
  return (
    <section aria-label="Over time" className="border-b border-hair pb-3">
      <h2 className="section">
        <b>Over time</b> all tries that failed in the last{" "}
        {hours === 168 ? "7 days" : hours === 1 ? "hour" : `${hours} h`}
        <Link to="/night" className="ml-auto font-normal hover:underline">
          The night
        </Link>
      </h2>
      <FailuresOver of={lately.data} now={now} />
    </section>
  );
}

/** Runs of a group that are listed at once. */
const mostRuns = 8;

function Group({ of: g, by, runs, me }: { of: TroubleGroup; by: string; runs: Run[]; me: Me }) {
  const now = useNow();
  const { go } = useSteer();
  const queries = useQueryClient();
  const tell = useToast();
  const again = async () => {
    try {
      const done = await retryParked(by === "node" ? { node: g.key } : { cause: g.key });
      await queries.invalidateQueries({ queryKey: ["trouble"] });
      tell(
        done.frames === 0
          ? { text: "None of these runs is yours to steer.", bad: true }
          : {
              text: `${countFramesText(done.frames)} of ${done.runs.length === 1 ? "1 run" : `${done.runs.length} runs`} tried again.`,
            },
      );
    } catch (error) {
      tell({ text: (error as Error).message, bad: true });
    }
  };
  const open = g.frames - g.done;
  const most = Math.max(...g.nodes.map((n) => n.tries));
  return (
    <section aria-label={g.key} className="border-b border-hair py-3">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="text-[15px] font-semibold">{g.key}</h2>
        <span className={`text-xs ${open > 0 ? "text-failed" : "text-muted"}`}>
          {open > 0 ? (
            <>
              ✕ <span className="num">{open}</span> not done
            </>
          ) : (
            "all done since"
          )}
        </span>
        {g.parked > 0 && (by === "cause" || by === "node") && isArtist(me) && (
          <button type="button" className="btn ml-auto btn-sm" onClick={() => void again()}>
            Try all of it again
          </button>
        )}
      </div>
      <div className="grid gap-x-8 gap-y-2 lg:grid-cols-[minmax(0,1fr)_300px]">
        <div className="min-w-0">
          <p>{sentence(g.sentence)}</p>
          <p className="text-[13px] text-muted">
            Last on {g.last.node}, of {nameOf(g)}, <span className="num">{since(g.last.at, now)}</span> ago:
          </p>
          <pre className="num mt-1 max-h-24 overflow-auto text-xs whitespace-pre-wrap text-muted" tabIndex={0}>
            {g.last.message}
          </pre>
          {g.blame.who && (
            <p className="mt-1 text-[13px]">
              To blame: <b className="font-semibold">{g.blame.who}</b>{" "}
              <span className="text-muted">{g.blame.text}</span>
            </p>
          )}
          {g.remedy && <p className="mt-1 text-[13px]">To mend it: {g.remedy}.</p>}
          <ul className="mt-2">
            {g.runs.slice(0, mostRuns).map((r) => {
              const run = runs.find((other) => other.id === r.run);
              return (
                <li key={r.run} className="flex flex-wrap items-center gap-x-3 py-[3px] text-[13px]">
                  <Link data-row to={`/runs/${r.run}`} className="font-semibold hover:underline">
                    {r.name}
                  </Link>
                  <span className="num min-w-0 truncate text-xs text-muted" title={r.frames}>
                    {r.frames}
                  </span>
                  {r.parked && (
                    <span className="text-xs text-failed">
                      parked: <span className="num">{r.parked}</span>
                    </span>
                  )}
                  {r.parked && run && maySteer(me, run) && (
                    <button type="button" className="btn btn-xs" onClick={() => void go(run, "retry")}>
                      Try again
                    </button>
                  )}
                </li>
              );
            })}
            {g.runs.length > mostRuns && (
              <li className="text-xs text-muted">
                and {g.runs.length - mostRuns} more {g.runs.length - mostRuns === 1 ? "run" : "runs"}
              </li>
            )}
          </ul>
        </div>
        <ul aria-label="Failed tries by node" className="self-start">
          {g.nodes.slice(0, mostRuns).map((n) => (
            <li key={n.node} className="grid min-h-6 grid-cols-[110px_minmax(0,1fr)_30px] items-center gap-2 text-xs">
              <Link to={`/nodes/${n.node}`} className="truncate hover:underline" title={n.name}>
                {n.name}
              </Link>
              <span
                className="h-[7px]"
                style={{ width: `${(100 * n.tries) / most}%`, background: "var(--s-failed)" }}
              />
              <span className="num text-right text-muted">{n.tries}</span>
            </li>
          ))}
          {g.nodes.length > mostRuns && (
            <li className="text-xs text-muted">and {g.nodes.length - mostRuns} more nodes</li>
          )}
        </ul>
      </div>
    </section>
  );
}

const nameOf = (g: TroubleGroup) => g.runs.find((r) => r.run === g.last_run)?.name ?? "a run";
