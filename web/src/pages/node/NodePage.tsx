import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { getNode, getNodeLog, getNodeVersions, isWrangler, type FarmNode, type Me } from "../../api/client";
import { useFarm } from "../../api/live";
import { Facts } from "../../parts/Facts";
import { amount, Gauge } from "../../parts/Gauge";
import { doings, useNodeActs } from "../../parts/nodeActs";
import { Notice } from "../../parts/Notice";
import { Standard } from "../../parts/Standard";
import { StateWord } from "../../parts/StateWord";
import { clock, useNow } from "../../parts/time";
import { WorkNow } from "../nodes/NodeTable";
import { ApplyPart } from "./ApplyPart";
import { HoursPart } from "./HoursPart";
import { OutputPart } from "./OutputPart";
import { SettingsPart } from "./SettingsPart";
import { TestPart } from "./TestPart";
import { TimelinePart } from "./TimelinePart";
import { UsagePart } from "./UsagePart";
import { WorksPart } from "./WorksPart";

/** One node: what it is, what it does, its hours, caps and traits. */
export function NodePage({ me }: { me: Me }) {
  const id = Number(useParams().node);
  const live = useFarm().data?.nodes.find((n) => n.id === id);
  // The list has no traits; they change with the node.
  const full = useQuery({ queryKey: ["node", id, live?.settings.version, live?.since], queryFn: () => getNode(id), placeholderData: (old) => old });
  if (full.isError) {
    return (
      <Notice title="This node is not here" text={full.error.message}>
        <Link to="/nodes" className="btn btn-sm">
          To the nodes
        </Link>
      </Notice>
    );
  }
  if (!full.data) {
    return <Notice title="One moment" text="Reading the node …" />;
  }
  return <NodeView node={{ ...full.data, ...live, traits: full.data.traits }} me={me} />;
}

function NodeView({ node, me }: { node: FarmNode; me: Me }) {
  const now = useNow();
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
          <h1 className="text-xl font-[650]">
            {node.name} <span className="text-sm font-normal text-brass">{node.kind}</span>
          </h1>
          <p className="text-[13px]">
            <StateWord state={node.state} /> <span className="text-muted">{node.why}</span>
          </p>
        </div>
        <div className="flex flex-wrap gap-2">
          {doings
            .filter((d) => (may || (d.what === "give-back" && me.role !== "viewer" && node.kind === "desk")) && fits(d.what, node))
            .map((d) => (
              <button key={d.what} className={`btn btn-sm ${d.what === "release" ? "btn-primary" : ""}`} onClick={() => act(d.what, [node.id])}>
                {d.name}
              </button>
            ))}
        </div>
      </header>
      <div className="mt-1 grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        <div className="min-w-0">
          {node.findings.map((f) => (
            <div key={f.kind} role="note" className="mt-4 flex gap-3 border-l-2 border-held bg-base-200 px-3 py-2 text-[13px]">
              <span aria-hidden="true" className="text-held">
                !
              </span>
              <p>
                {f.sentence} <span className="text-muted">{f.remedy}</span>
              </p>
            </div>
          ))}
          <section aria-label="Now">
            <h2 className="section">
              <b>Now</b> {node.reach === "silent" ? `silent since ${clock(node.since, now)}` : `online since ${clock(node.since, now)}`}
            </h2>
            {node.works.length === 1 && node.works[0].share.cores === "" && (
              <p className="pb-2 text-[13px] text-muted">
                <WorkNow work={node.works[0]} />
              </p>
            )}
            <Facts
              rows={[
                ["processor", <Gauge key="p" name="Processor" part={node.processor} />],
                ["memory", <Gauge key="m" name="Memory" part={node.memory_used} text={`${Math.round(100 * node.memory_used)} % of ${amount(node.memory_bytes)}`} />],
                ["duty, health", `${node.duty}, ${node.health}`],
              ]}
            />
          </section>
          <WorksPart node={node} />
          <TestPart node={node} now={now} may={may} />
        </div>
        <div className="min-w-0">
          <section aria-label="Machine">
            <h2 className="section">
              <b>Machine</b> as it tells itself
            </h2>
            <Facts
              rows={[
                ["system", node.system],
                ["cores, speed", `${node.cores}, ${node.speed.toFixed(2)}`],
                ["graphics", node.devices.map((d) => `${d.model} ${d.memory_bytes > 0 ? amount(d.memory_bytes) : ""}`).join(", ")],
                ["disk free", amount(node.disk_bytes)],
                ["renderers", node.renderers.map((r) => `${r.recipe} ${r.version}`).join(", ")],
                ["node process", `${node.version}${node.means.account ? `, runs as ${node.means.account}` : ""}`],
                ["renderers are", means(node)],
                ["disk, network", node.disk_rate > 0 ? `writes ${amount(node.disk_rate)}/s, sends ${amount(node.network_rate)}/s` : ""],
                ["enrolled", node.enrolled_at ? clock(node.enrolled_at, now) : "not yet"],
              ]}
            />
          </section>
        </div>
      </div>
      <TimelinePart node={node} />
      <UsagePart node={node} />
      <OutputPart node={node} />
      <div className="grid gap-x-8 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        <div className="min-w-0">
          <HoursPart node={node} now={now} may={may} onChange={change} />
          <Log node={node} now={now} />
          <Versions node={node} now={now} />
        </div>
        <div className="min-w-0">
          <SettingsPart node={node} may={may} onChange={change} />
          {may && <ApplyPart node={node} onChange={change} />}
        </div>
      </div>
      {dialog}
    </main>
  );
}

/** How the node can hold renderers to what they are given. */
function means(node: FarmNode): string {
  const m = node.means;
  if (m.memory === "") {
    return "";
  }
  const memory = m.memory === "told" ? "told their memory" : `held to their memory by a ${m.memory}`;
  return `${m.pins ? "held to" : "told"} their cores, ${memory}${m.switches ? ", run as any account" : ""}`;
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
function Log({ node, now }: { node: FarmNode; now: number }) {
  const log = useQuery({ queryKey: ["node", node.id, "log", node.changed], queryFn: () => getNodeLog(node.id), placeholderData: (old) => old });
  return <Lines title="What happened" empty="Nothing yet." lines={(log.data ?? []).map((l) => ({ key: l.seq, at: clock(l.at, now), text: l.reason }))} />;
}

/** The settings that the node had, newest first. */
function Versions({ node, now }: { node: FarmNode; now: number }) {
  const versions = useQuery({ queryKey: ["node", node.id, "versions", node.settings.version], queryFn: () => getNodeVersions(node.id), placeholderData: (old) => old });
  return <Lines title="Settings" empty="They were never changed." lines={(versions.data ?? []).map((v) => ({ key: v.version, at: clock(v.at, now), text: `${v.version}, ${v.actor}: ${v.reason}` }))} />;
}

function Lines({ title, empty, lines }: { title: string; empty: string; lines: { key: number; at: string; text: string }[] }) {
  return (
    <section aria-label={title}>
      <h2 className="section">
        <b>{title}</b>
      </h2>
      {lines.length === 0 && <p className="text-xs text-muted">{empty}</p>}
      <ol className="max-h-64 overflow-y-auto" tabIndex={0} aria-label={title}>
        {lines.map((l) => (
          <li key={l.key} className="grid grid-cols-[72px_1fr] gap-2 border-b border-hair py-[3px] text-xs">
            <span className="num text-muted">{l.at}</span>
            <span>{l.text}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}
