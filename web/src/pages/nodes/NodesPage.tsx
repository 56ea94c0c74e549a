import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useCallback, useDeferredValue, useEffect, useMemo, useState } from "react";
import { Link } from "react-router";
import { getPicked, isWrangler, type FarmNode, type Me } from "../../api/client";
import { useFarm } from "../../api/live";
import { doings, useNodeActs } from "../../parts/nodeActs";
import { Notice } from "../../parts/Notice";
import { useStays } from "../../parts/stays";
import { NodeCards } from "./NodeCards";
import { NodeTable } from "./NodeTable";

/** All nodes: filter, group, pick many, and steer them. */
export function NodesPage({ me }: { me: Me }) {
  const farm = useFarm();
  const [where, setWhere] = useState("");
  const [cards, setCards] = useState(() => (localStorage.getItem("vexillum-nodes") ?? (window.innerWidth < 640 ? "cards" : "table")) === "cards");
  const [byPool, setByPool] = useState(false);
  const [picked, setPicked] = useState<ReadonlySet<number>>(new Set());
  const settled = useSettled(where.trim(), 250);
  // Its nodes may come to match while the page is open.
  const filter = useQuery({ queryKey: ["picked", settled], queryFn: () => getPicked(settled), enabled: settled !== "", retry: false, refetchInterval: 5000, placeholderData: keepPreviousData });
  const { act, dialog } = useNodeActs();
  const pools = useStays();
  const may = isWrangler(me);
  const all = useDeferredValue(farm.data?.nodes); // drawing thousands of nodes gives way to clicks and keys
  const nodes = useMemo(() => {
    const ids = settled !== "" && filter.data ? new Set(filter.data.nodes) : null;
    return (all ?? []).filter((n) => ids === null || ids.has(n.id));
  }, [all, settled, filter.data]);
  const pick = useCallback(
    (ids: number[], on: boolean) =>
      setPicked((old) => {
        const next = new Set(old);
        ids.forEach((id) => (on ? next.add(id) : next.delete(id)));
        return next;
      }),
    [],
  );
  if (farm.isError) {
    return <Notice title="The farm cannot be read" text={farm.error.message} />;
  }
  if (all === undefined) {
    return <Notice title="One moment" text="Reading the farm …" />;
  }
  const chosen = nodes.filter((n) => picked.has(n.id));
  const show = (as: boolean) => {
    localStorage.setItem("vexillum-nodes", as ? "cards" : "table");
    setCards(as);
  };
  const View = cards ? NodeCards : NodeTable;
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-24 sm:px-6">
      <header className="flex flex-wrap items-end gap-x-4 gap-y-2 border-b border-hair pb-3">
        <h1 className="text-xl font-[650]">Nodes</h1>
        <label className="min-w-0 grow basis-72">
          <span className="sr-only">Nodes that fulfil</span>
          <input
            className="input num w-full input-sm"
            type="search"
            placeholder="gpu && memory>=64GiB && !laptop"
            value={where}
            onChange={(event) => setWhere(event.target.value)}
            aria-invalid={filter.isError}
            aria-describedby="picked"
          />
        </label>
        <span id="picked" role="status" className={`text-xs ${filter.isError && settled !== "" ? "text-failed" : "text-muted"}`}>
          {settled === "" ? `${all.length} nodes` : filter.isError ? filter.error.message : `${nodes.length} of ${all.length} nodes${unknown(filter.data?.unknown)}`}
        </span>
        <label className="flex items-center gap-1 text-xs text-muted">
          <input type="checkbox" className="checkbox checkbox-xs" checked={byPool} onChange={(event) => setByPool(event.target.checked)} />
          by pool
        </label>
        <div className="join" role="group" aria-label="View">
          {[false, true].map((as) => (
            <button key={String(as)} className={`btn join-item btn-xs ${cards === as ? "btn-neutral" : "btn-ghost"}`} aria-pressed={cards === as} onClick={() => show(as)}>
              {as ? "Cards" : "Table"}
            </button>
          ))}
        </div>
      </header>
      {all.length === 0 && (
        <p className="mt-4 text-muted">
          No node has joined yet. {may ? <Link to="/keys" className="link">Make an enrolment key</Link> : "A wrangler makes a key"} and paste the command on a machine.
        </p>
      )}
      {all.length > 0 && nodes.length === 0 && <p className="mt-4 text-muted">No node fulfils this. Change the expression, or give nodes the trait.</p>}
      {groups(nodes, byPool).map(([name, members]) => (
        <section key={name} aria-label={name || "Nodes"}>
          {name && (
            <h2 className="section">
              <b>{name}</b> {members.length === 1 ? "1 node" : `${members.length} nodes`}
              {may && name !== noPool && <PoolButton name={name} held={pools.stays.some((s) => s.kind === "pool" && s.name === name && s.held)} onHold={pools.hold} onRelease={pools.release} />}
            </h2>
          )}
          <View nodes={members} picked={may ? picked : null} onPick={pick} />
        </section>
      ))}
      {chosen.length > 0 && (
        <div role="toolbar" aria-label="Picked nodes" className="fixed inset-x-0 bottom-0 z-30 flex flex-wrap items-center gap-2 border-t border-hair bg-base-300 px-6 py-3 max-sm:bottom-[52px] sm:left-[76px]">
          <span className="mr-2">
            <b>{chosen.length}</b> picked
          </span>
          {doings.map((d) => (
            <button key={d.what} className="btn btn-sm" onClick={() => act(d.what, chosen.map((n) => n.id))}>
              {d.name}
            </button>
          ))}
          <span className="grow" />
          <button className="btn btn-ghost btn-sm" onClick={() => setPicked(new Set())}>
            Pick none
          </button>
        </div>
      )}
      {dialog}
      {pools.dialog}
    </main>
  );
}

const noPool = "in no pool";

/** Holds a whole pool, or releases it. */
function PoolButton({ name, held, onHold, onRelease }: { name: string; held: boolean; onHold: (kind: string, name: string) => void; onRelease: (kind: string, name: string) => void }) {
  return (
    <button className={`btn ml-3 btn-xs ${held ? "btn-primary" : ""}`} onClick={() => (held ? onRelease : onHold)("pool", name)}>
      {held ? "Release the pool" : "Hold the pool"}
    </button>
  );
}

const unknown = (names: string[] | undefined) => (names && names.length > 0 ? `; no node has the trait ${names.join(", ")}` : "");

/** Nodes under the pools that they are in; one that is in several stands under each. */
function groups(nodes: FarmNode[], byPool: boolean): [string, FarmNode[]][] {
  if (!byPool) {
    return nodes.length > 0 ? [["", nodes]] : [];
  }
  const out = new Map<string, FarmNode[]>();
  for (const node of nodes) {
    for (const pool of node.settings.pools.length > 0 ? node.settings.pools : [noPool]) {
      out.set(pool, [...(out.get(pool) ?? []), node]);
    }
  }
  return [...out].sort(([a], [b]) => a.localeCompare(b));
}

/** A value once it has not changed for a while. */
function useSettled(value: string, ms: number): string {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), ms);
    return () => window.clearTimeout(timer);
  }, [value, ms]);
  return settled;
}
