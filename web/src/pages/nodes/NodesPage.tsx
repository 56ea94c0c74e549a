import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useCallback, useDeferredValue, useEffect, useMemo, useState } from "react";
import { Link } from "react-router";
import { type FarmNode, getPicked, isWrangler, type Me, type Stay } from "../../api/client";
import { useFarm } from "../../api/live";
import { useAddress } from "../../parts/address";
import { useDebounced } from "../../parts/debounced";
import { Notice, Waits } from "../../parts/Notice";
import { doings, useNodeActs } from "../../parts/nodeActs";
import { natural } from "../../parts/order";
import { useStays } from "../../parts/stays";
import { StillArea } from "../../parts/still";
import { useTitle } from "../../parts/title";
import { NodeCards } from "./NodeCards";
import { NodeTable } from "./NodeTable";

/** All nodes: filter, group, pick many, and steer them. What is filtered by stands
 * in the address. */
export function NodesPage({ me }: { me: Me }) {
  useTitle("Nodes");
  return (
    <StillArea>
      <NodesView me={me} />
    </StillArea>
  );
}

function NodesView({ me }: { me: Me }) {
  const farm = useFarm();
  const [address, set] = useAddress();
  const [where, setWhere] = useState(address.get("where") ?? "");
  const name = address.get("name") ?? "";
  const [cards, setCards] = useState(
    () => (localStorage.getItem("vexillum-nodes") ?? (window.innerWidth < 640 ? "cards" : "table")) === "cards",
  );
  const [picked, setPicked] = useState<ReadonlySet<number>>(new Set());
  const settled = useDebounced(where.trim(), 250);
  const state = address.get("state") ?? "";
  const byPool = address.get("by") === "pool";
  useEffect(() => {
    if (settled !== (address.get("where") ?? "")) {
      set({ where: settled });
    }
  }, [settled]); // what is typed goes into the address, not the other way
  // Its nodes may come to match while the page is open.
  const filter = useQuery({
    queryKey: ["picked", settled],
    queryFn: () => getPicked(settled),
    enabled: settled !== "",
    refetchInterval: 5000,
    placeholderData: keepPreviousData,
  });
  const unreadable = settled !== "" && filter.isError;
  const { act, dialog } = useNodeActs();
  const pools = useStays();
  const may = isWrangler(me);
  const all = useDeferredValue(farm.data?.nodes); // drawing thousands of nodes gives way to clicks and keys
  const nodes = useMemo(() => {
    if (unreadable) {
      return []; // nobody knows which are meant
    }
    const ids = settled !== "" && filter.data ? new Set(filter.data.nodes) : null;
    const part = name.trim().toLowerCase();
    return (all ?? []).filter(
      (n) =>
        (ids === null || ids.has(n.id)) && (state === "" || n.state === state) && n.name.toLowerCase().includes(part),
    );
  }, [all, settled, filter.data, unreadable, state, name]);
  const pick = useCallback(
    (ids: number[], on: boolean) =>
      setPicked((old) => {
        const next = new Set(old);
        for (const id of ids) {
          if (on) next.add(id);
          else next.delete(id);
        }
        return next;
      }),
    [],
  );
  if (farm.isError) {
    return <Notice title="The farm cannot be read" text={farm.error.message} />;
  }
  if (all === undefined) {
    return <Waits query={farm} what="Reading the farm …" />;
  }
  const chosen = nodes.filter((n) => picked.has(n.id));
  const states = [...new Set([...all.map((n) => n.state), ...(state ? [state] : [])])].sort();
  const filtered = settled !== "" || name.trim() !== "" || state !== "";
  const show = (as: boolean) => {
    localStorage.setItem("vexillum-nodes", as ? "cards" : "table");
    setCards(as);
  };
  const asked = `${filter.data?.nodes.join() ?? ""} ${name} ${state}`;
  const View = cards ? NodeCards : NodeTable;
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-24 sm:px-6">
      <header className="flex flex-wrap items-end gap-x-3 gap-y-2 border-b border-hair pb-3">
        <h1 className="text-xl font-[650]">Nodes</h1>
        <label className="min-w-0 grow basis-32 text-[11px] text-muted">
          part of the name
          <input
            data-search
            className="input mt-[2px] block w-full input-sm"
            type="search"
            maxLength={200}
            placeholder="kiln"
            value={name}
            onChange={(event) => set({ name: event.target.value })}
          />
        </label>
        <label className="text-[11px] text-muted">
          state
          <select
            className="select mt-[2px] flex w-32 select-sm"
            value={state}
            onChange={(event) => set({ state: event.target.value })}
          >
            <option value="">all</option>
            {states.map((s) => (
              <option key={s}>{s}</option>
            ))}
          </select>
        </label>
        <label className="min-w-0 grow-[2] basis-64 text-[11px] text-muted">
          traits they have
          <input
            className="input num mt-[2px] block w-full input-sm"
            type="search"
            maxLength={1000}
            placeholder="gpu && memory>=64GiB && !laptop"
            value={where}
            onChange={(event) => setWhere(event.target.value)}
            aria-invalid={unreadable}
            aria-describedby="picked"
          />
        </label>
        <label className="flex items-center gap-1 text-xs text-muted">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={byPool}
            onChange={(event) => set({ by: event.target.checked ? "pool" : "" })}
          />
          by pool
        </label>
        <div className="join" role="group" aria-label="View">
          {[false, true].map((as) => (
            <button
              type="button"
              key={String(as)}
              className={`btn join-item btn-xs ${cards === as ? "btn-neutral" : "btn-ghost"}`}
              aria-pressed={cards === as}
              onClick={() => show(as)}
            >
              {as ? "Cards" : "Table"}
            </button>
          ))}
        </div>
        <span
          id="picked"
          role="status"
          className={`basis-full text-xs break-words ${unreadable ? "text-failed" : "text-muted"}`}
        >
          {unreadable
            ? `${filter.error.message}. No node is listed until that can be read.`
            : filtered
              ? `${nodes.length} of ${count(all.length)}${unknown(settled === "" ? [] : filter.data?.unknown)}`
              : count(all.length)}
        </span>
      </header>
      {all.length === 0 && (
        <p className="mt-4 text-muted">
          No node has joined yet.{" "}
          {may ? (
            <Link to="/keys" className="link">
              Make an enrolment key
            </Link>
          ) : (
            "A wrangler makes a key"
          )}{" "}
          and paste the command on a machine.
        </p>
      )}
      {all.length > 0 && nodes.length === 0 && !unreadable && (
        <p className="mt-4 text-muted">No node matches. Ask for less, or give nodes the trait.</p>
      )}
      {groups(nodes, byPool).map(([name, members]) => (
        <section key={name} aria-label={name || "Nodes"}>
          {name && (
            <h2 className="section">
              <b className="min-w-0 truncate" title={name}>
                {name}
              </b>{" "}
              {count(members.length)}
              {may && name !== noPool && (
                <PoolButton
                  name={name}
                  held={pools.stays.some((s) => s.kind === "pool" && s.name === name && s.held)}
                  onHold={pools.hold}
                  onRelease={pools.release}
                />
              )}
            </h2>
          )}
          <View nodes={members} asked={asked} picked={may ? picked : null} onPick={pick} />
        </section>
      ))}
      {chosen.length > 0 && (
        <div
          role="toolbar"
          aria-label="Picked nodes"
          className="fixed inset-x-0 bottom-0 z-30 flex flex-wrap items-center gap-2 border-t border-hair bg-base-300 px-6 py-3 max-sm:bottom-[53px] sm:left-[76px]"
        >
          <span className="mr-2">
            <b>{chosen.length}</b> picked
          </span>
          {doings.map((d) => (
            <button
              type="button"
              key={d.what}
              className="btn btn-sm"
              onClick={() =>
                act(
                  d.what,
                  chosen.map((n) => n.id),
                )
              }
            >
              {d.name}
            </button>
          ))}
          <span className="grow" />
          <button type="button" className="btn btn-ghost btn-sm" onClick={() => setPicked(new Set())}>
            Pick none
          </button>
        </div>
      )}
      {dialog}
      {pools.dialog}
    </main>
  );
}

const count = (n: number) => (n === 1 ? "1 node" : `${n} nodes`);

const noPool = "in no pool";

/** Holds a whole pool, or releases it. */
function PoolButton({
  name,
  held,
  onHold,
  onRelease,
}: {
  name: string;
  held: boolean;
  onHold: (kind: Stay["kind"], name: string) => void;
  onRelease: (kind: Stay["kind"], name: string) => void;
}) {
  return (
    <button
      type="button"
      className={`btn ml-3 btn-xs ${held ? "btn-primary" : ""}`}
      onClick={() => (held ? onRelease : onHold)("pool", name)}
    >
      {held ? "Release the pool" : "Hold the pool"}
    </button>
  );
}

const unknown = (names: string[] | undefined) =>
  names && names.length > 0 ? `; no node has the trait ${names.join(", ")}` : "";

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
  return [...out].sort(([a], [b]) => natural(a, b));
}
