import { useQuery } from "@tanstack/react-query";
import { memo } from "react";
import { Link, useParams } from "react-router";
import {
  type FarmNode,
  getNode,
  getNodeHistory,
  getNodeVersions,
  isWrangler,
  type Me,
  type PlaceSeen,
} from "../../api/client";
import { useFarm } from "../../api/live";
import { Facts } from "../../parts/Facts";
import { amount, Gauge } from "../../parts/Gauge";
import { Notice, Waits } from "../../parts/Notice";
import { doings, useNodeActs } from "../../parts/nodeActs";
import { Standard } from "../../parts/Standard";
import { StateWord } from "../../parts/StateWord";
import { clock, sentence, told, useNow, whole } from "../../parts/time";
import { useTitle } from "../../parts/title";
import { WorkNow } from "../nodes/NodeTable";
import { ApplyPart } from "./ApplyPart";
import { HoursPart } from "./HoursPart";
import { LogPart } from "./LogPart";
import { RenderersPart } from "./RenderersPart";
import { SettingsPart } from "./SettingsPart";
import { TestPart } from "./TestPart";
import { TimelinePart } from "./TimelinePart";
import { TroublePart } from "./TroublePart";
import { UsagePart } from "./UsagePart";
import { WorksPart } from "./WorksPart";

/** One node: what it is, what it does, its hours, caps and traits. */
export function NodePage({ me }: { me: Me }) {
  const params = useParams();
  const id = Number(params.node);
  const numbered = Number.isSafeInteger(id) && id > 0;
  const live = useFarm().data?.nodes.find((n) => n.id === id);
  // The list has no traits; they change with the node.
  const full = useQuery({
    queryKey: ["node", id, live?.settings.version, live?.since],
    queryFn: () => getNode(id),
    enabled: numbered,
    placeholderData: (old) => old,
  });
  if (full.isError || !numbered) {
    return (
      <Notice
        title="There is no such node"
        text={
          full.isError
            ? sentence(full.error.message)
            : `${params.node} is not the number of a node. The address may be mistyped or cut off.`
        }
      >
        <Link to="/nodes" className="btn btn-sm">
          To the nodes
        </Link>
      </Notice>
    );
  }
  if (!full.data) {
    return <Waits query={full} what="Reading the node …" />;
  }
  return <NodeView node={{ ...full.data, ...live, traits: full.data.traits }} me={me} />;
}

function NodeView({ node, me }: { node: FarmNode; me: Me }) {
  const now = useNow();
  useTitle(node.name);
  const may = isWrangler(me);
  const { act, change, dialog } = useNodeActs();
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-8 sm:px-6">
      <p className="text-xs text-muted">
        <Link to="/nodes" className="hover:text-base-content">
          Nodes
        </Link>
        {node.settings.pools.length > 0 && ` / ${node.settings.pools.join(", ")}`}
      </p>
      <header className="flex flex-wrap items-start gap-x-5 gap-y-3 border-b border-hair pb-3">
        <Standard node={node} className="h-[54px] w-9" />
        <div className="min-w-0 flex-1 basis-64">
          <h1 className="text-xl font-[650] break-words">
            {node.name} <span className="text-sm font-normal text-brass">{node.kind}</span>
          </h1>
          <p className="text-[13px]">
            <StateWord state={node.state} /> <span className="break-words text-muted">{told(beyond(node), now)}</span>
          </p>
        </div>
        <div className="flex flex-wrap gap-2">
          {doings
            .filter(
              (d) =>
                (may || (d.what === "give-back" && me.role !== "viewer" && node.kind === "desk")) && fits(d.what, node),
            )
            .map((d) => (
              <button
                type="button"
                key={d.what}
                className={`btn btn-sm ${d.what === "release" ? "btn-primary" : ""}`}
                onClick={() => act(d.what, [node.id])}
              >
                {d.name}
              </button>
            ))}
        </div>
      </header>
      <div className="mt-1 grid grid-cols-1 gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        <div className="min-w-0">
          {node.findings.map((f) => (
            <div
              key={f.kind}
              role="note"
              className="mt-4 flex gap-3 border-l-2 border-held bg-base-200 px-3 py-2 text-[13px]"
            >
              <span aria-hidden="true" className="text-held">
                !
              </span>
              <p>
                {told(f.sentence, now)} <span className="text-muted">{f.remedy}</span>
              </p>
            </div>
          ))}
          <section aria-label="Now">
            <h2 className="section">
              <b>Now</b> {`${node.reach} since ${clock(node.since, now)}`}
            </h2>
            {node.works.length === 1 && node.works[0].share.cores === "" && (
              <p className="pb-2 text-[13px] text-muted">
                <WorkNow work={node.works[0]} />
              </p>
            )}
            <Facts
              rows={[
                ["processor", <Gauge key="p" name="Processor" part={node.processor} />],
                [
                  "memory",
                  <Gauge
                    key="m"
                    name="Memory"
                    part={node.memory_used}
                    text={`${Math.round(100 * node.memory_used)} % of ${amount(node.memory_bytes)}`}
                  />,
                ],
                ["duty, health", `${node.duty}, ${node.health}`],
                ["next trial", node.health === "sidelined" && node.trial ? clock(node.trial, now) : ""],
              ]}
            />
          </section>
          <WorksPart node={node} />
          <RenderersPart node={node} may={may} />
          <TestPart node={node} may={may} />
        </div>
        <div className="min-w-0">
          <section aria-label="Machine">
            <h2 className="section">
              <b>Machine</b> as its node process reports it
            </h2>
            <Facts
              rows={[
                ["system", node.system],
                ["cores, speed", `${node.cores}, ${node.speed.toFixed(2)}`],
                [
                  "graphics",
                  node.devices
                    .map(
                      (d) =>
                        `${d.model} ${d.memory_bytes > 0 ? amount(d.memory_bytes) : ""}${d.aside ? ` (set aside: ${d.aside})` : ""}`,
                    )
                    .join(", "),
                ],
                ["disk free", amount(node.disk_bytes)],
                ["node process", `${node.version}${node.means.account ? `, runs as ${node.means.account}` : ""}`],
                [
                  "renderers run as",
                  [node.means.renders_as || node.means.account, ...node.means.permits].filter(Boolean).join(", "),
                ],
                ["renderers are", means(node)],
                [
                  "disk, network",
                  node.disk_rate > 0 ? `writes ${amount(node.disk_rate)}/s, sends ${amount(node.network_rate)}/s` : "",
                ],
                ...node.places.map((p): [string, string] => [`place ${p.name}`, sight(p)]),
                ["enrolled", node.enrolled_at ? clock(node.enrolled_at, now) : "not yet"],
              ]}
            />
          </section>
        </div>
      </div>
      <TroublePart node={node} mayTry={may} />
      <TimelinePart node={node} />
      <UsagePart node={node} />
      <div className="grid grid-cols-1 gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        <div className="min-w-0">
          <HoursPart key={node.id} node={node} may={may} onChange={change} />
          <Log node={node} />
          <Versions node={node} />
        </div>
        <div className="min-w-0">
          <SettingsPart node={node} may={may} onChange={change} />
          {may && <ApplyPart node={node} onChange={change} />}
        </div>
      </div>
      <LogPart node={node} />
      {dialog}
    </main>
  );
}

/** Why the node is in its state, without the state, which stands before it. */
function beyond(node: FarmNode): string {
  const said = `is ${node.state}`;
  return node.why.startsWith(said) ? node.why.slice(said.length).replace(/^[:,]?\s+/, "") : node.why;
}

/** How the node can hold renderers to what they are given. */
function means(node: FarmNode): string {
  const m = node.means;
  if (m.memory === "") {
    return "";
  }
  const memory = m.memory === "told" ? "told their memory" : `held to their memory by a ${m.memory}`;
  return `${m.pins ? "held to" : "told"} their cores, ${memory}`;
}

/** Whether an act makes sense for a node in its state. */
function fits(what: string, node: FarmNode): boolean {
  const free = node.duty === "on duty" && node.health !== "sidelined";
  switch (what) {
    case "release":
      return !free && node.state !== "announced" && (node.duty !== "off duty" || node.off_until !== null); // hours alone are not released
    case "hold":
    case "drain":
    case "sideline":
      return free;
    case "give-back":
      return node.kind === "desk" && node.duty === "on duty";
    case "restart":
      return node.reach === "online";
    case "revoke":
      return node.enrolled_at !== null;
  }
  return true;
}

/** What became of the node, newest first. */
const Log = memo(
  LogView,
  (a, b) =>
    a.node.id === b.node.id &&
    a.node.state === b.node.state &&
    a.node.settings === b.node.settings &&
    a.node.since === b.node.since,
);

function LogView({ node }: { node: FarmNode }) {
  const now = Date.now();
  const log = useQuery({
    queryKey: ["node", node.id, "log", node.state, node.settings.version, node.since],
    queryFn: () => getNodeHistory(node.id),
    placeholderData: (old) => old,
  });
  return (
    <Lines
      title="What happened"
      empty="Nothing yet."
      lines={(log.data ?? []).map((l) => ({
        key: l.seq,
        at: clock(l.at, now),
        hint: whole(l.at),
        text: told(l.reason, now),
      }))}
    />
  );
}

/** The settings that the node had, newest first. */
const Versions = memo(VersionsView, (a, b) => a.node.id === b.node.id && a.node.settings === b.node.settings);

function VersionsView({ node }: { node: FarmNode }) {
  const now = Date.now();
  const versions = useQuery({
    queryKey: ["node", node.id, "versions", node.settings.version],
    queryFn: () => getNodeVersions(node.id),
    placeholderData: (old) => old,
  });
  return (
    <Lines
      title="Settings"
      empty="They were never changed."
      lines={(versions.data ?? []).map((v) => ({
        key: v.version,
        at: clock(v.at, now),
        hint: whole(v.at),
        text: `${v.version}, ${v.actor}: ${told(v.reason, now)}`,
      }))}
    />
  );
}

function Lines({
  title,
  empty,
  lines,
}: {
  title: string;
  empty: string;
  lines: { key: number; at: string; hint: string; text: string }[];
}) {
  return (
    <section aria-label={title}>
      <h2 className="section">
        <b>{title}</b>
      </h2>
      {lines.length === 0 && <p className="text-xs text-muted">{empty}</p>}
      <ol className="max-h-64 overflow-y-auto" tabIndex={0} aria-label={title}>
        {lines.map((l) => (
          <li key={l.key} className="grid grid-cols-[76px_minmax(0,1fr)] gap-2 border-b border-hair py-[3px] text-xs">
            <span className="num text-muted" title={l.hint}>
              {l.at}
            </span>
            <span className="min-w-0 break-words">{l.text}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}

/** What a node sees of a place. */
function sight(p: PlaceSeen): string {
  const rate = (bytes: number) => (bytes > 0 ? `, about ${amount(bytes)}/s` : "");
  const can = [p.reads ? `reads${rate(p.read_rate)}` : "", p.writes ? `writes${rate(p.write_rate)}` : "", p.why];
  return can.filter((text) => text !== "").join("; ");
}
