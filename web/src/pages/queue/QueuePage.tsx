import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { getQueue, type Me, maySteer, type QueueSearch, type Run } from "../../api/client";
import { useFarm } from "../../api/live";
import { useAddress } from "../../parts/address";
import { useDebounced } from "../../parts/debounced";
import { Waits } from "../../parts/Notice";
import { AskToSteer, useSteer } from "../../parts/steering";
import { StillArea, useStill, Waiting } from "../../parts/still";
import { useNow } from "../../parts/time";
import { useTitle } from "../../parts/title";
import { QueueTable } from "./QueueTable";

const states = [
  "open",
  "ended",
  "rendering",
  "queued",
  "held",
  "waiting",
  "done",
  "done with gaps",
  "failed",
  "cancelled",
];
const dues: [string, string][] = [
  ["at risk", "at risk"],
  ["24h", "within 24 hours"],
  ["7d", "within 7 days"],
  ["any", "with a due time"],
  ["none", "without"],
];

/** Every run that there ever was: searched, filtered, sorted, a page at a time.
 * What is chosen stands in the address. */
export function QueuePage({ me }: { me: Me }) {
  useTitle("Queue");
  return (
    <StillArea>
      <QueueView me={me} />
    </StillArea>
  );
}

const idOf = (run: Run) => run.id;

/** The search that stands in an address. */
function searchOf(address: URLSearchParams): QueueSearch {
  const { page, size, down, ...words } = Object.fromEntries(address);
  return {
    ...words,
    page: page ? Number(page) : undefined,
    size: size ? Number(size) : undefined,
    down: down === undefined ? undefined : down === "true",
  };
}
const none: Run[] = [];

function QueueView({ me }: { me: Me }) {
  const farm = useFarm();
  const now = useNow();
  const [address, change] = useAddress();
  const [text, setText] = useState(address.get("search") ?? "");
  const [picked, setPicked] = useState<ReadonlyMap<number, Run>>(new Map());
  const settled = useDebounced(text.trim(), 250);
  const set = (changes: Record<string, string>, keepPage = false) =>
    change(keepPage ? changes : { page: "", ...changes });
  useEffect(() => {
    if (settled !== (address.get("search") ?? "")) {
      set({ search: settled });
    }
  }, [settled]); // what is typed goes into the address, not the other way
  const query = address.toString();
  const stamp = useStamp(farm.data?.runs);
  const found = useQuery({
    queryKey: ["queue", query, stamp],
    queryFn: () => getQueue(searchOf(new URLSearchParams(query))),
    placeholderData: keepPreviousData,
  });
  // Open runs are live; the page of the search tells which there are, and their order.
  const live = useMemo(() => new Map((farm.data?.runs ?? none).map((r) => [r.id, r])), [farm.data?.runs]);
  const answered = useRef(query); // the search whose runs are shown
  if (!found.isPlaceholderData) {
    answered.current = query;
  }
  const rows = useStill(
    (found.data?.runs ?? none).map((r) => live.get(r.id) ?? r),
    idOf,
    answered.current,
  );
  const title = (name: string) => farm.data?.projects.find((p) => p.name === name)?.title || name;
  const pick = (runs: Run[], on: boolean) =>
    setPicked((old) => {
      const next = new Map(old);
      for (const run of runs) {
        if (on) next.set(run.id, run);
        else next.delete(run.id);
      }
      return next;
    });
  // A column that is chosen again turns round, and then gives way to the turn in which runs are dealt.
  const sort = (column: string) =>
    set(
      address.get("sort") !== column
        ? { sort: column, down: "" }
        : address.get("down") !== "true"
          ? { down: "true" }
          : { sort: "", down: "" },
    );
  const page = found.data?.page ?? 1;
  const pages = found.data?.pages ?? 1;
  const filtered = ["search", "project", "state", "owner", "due"].some((name) => address.has(name));
  const chosen = [...picked.keys()].map((id) => live.get(id) ?? picked.get(id)!);
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-24 sm:px-6">
      <header className="flex flex-wrap items-end gap-x-3 gap-y-2 border-b border-hair pb-3">
        <h1 className="text-xl font-[650]">Queue</h1>
        <label className="min-w-0 grow basis-56">
          <span className="sr-only">Search in names, projects, people, scenes and reasons</span>
          <input
            data-search
            className="input w-full input-sm"
            type="search"
            maxLength={200}
            placeholder="name, person, scene, reason, or #45"
            value={text}
            onChange={(event) => setText(event.target.value)}
          />
        </label>
        <Pick
          name="project"
          address={address}
          onSet={set}
          options={(farm.data?.projects ?? []).map((p) => [p.name, p.title || p.name])}
        />
        <Pick name="state" address={address} onSet={set} options={states.map((s) => [s, s])} />
        <Pick
          name="owner"
          label="person"
          address={address}
          onSet={set}
          options={[
            [me.name, `${me.name} (you)`],
            ...(found.data?.owners ?? []).filter((o) => o !== me.name).map((o): [string, string] => [o, o]),
          ]}
        />
        <Pick name="due" address={address} onSet={set} options={dues} />
        {filtered && (
          <button
            type="button"
            className="btn btn-ghost btn-sm"
            onClick={() => {
              setText("");
              set({ search: "", project: "", state: "", owner: "", due: "" });
            }}
          >
            Show all
          </button>
        )}
      </header>
      {found.isError ? (
        <p role="alert" className="mt-4 text-failed">
          <span aria-hidden="true">✕ </span>
          {found.error.message}
        </p>
      ) : found.data === undefined ? (
        <Waits query={found} what="Reading the queue …" />
      ) : (
        <>
          <p role="status" className="mt-2 text-xs text-muted">
            {found.data.total === 1 ? "1 run" : `${found.data.total} runs`}
            {filtered && " found"}
            {pages > 1 && `, page ${page} of ${pages}`} <Waiting count={rows.waiting} />
          </p>
          {found.data.total === 0 ? (
            <p className="mt-4 text-muted">
              {filtered
                ? "No run matches. Show all, or search for something else."
                : "Nothing was submitted yet. Submit a scene with vexillum submit."}
            </p>
          ) : (
            <QueueTable
              runs={rows.shown}
              title={title}
              now={now}
              picked={me.role === "viewer" ? null : picked}
              sort={address.get("sort") ?? "turn"}
              down={address.get("down") === "true"}
              onSort={sort}
              onPick={pick}
            />
          )}
          {pages > 1 && (
            <Pages page={page} pages={pages} onPage={(n) => set({ page: n === 1 ? "" : String(n) }, true)} />
          )}
        </>
      )}
      <Acts chosen={chosen} me={me} onNone={() => setPicked(new Map())} />
    </main>
  );
}

/** What changes only when a run begins, ends, is steered or moved: then the page
 * of the queue is read anew, a second later at most. */
function useStamp(runs: Run[] | undefined): string {
  const text = useMemo(
    () => (runs ?? none).map((r) => `${r.id}${r.state[0]}${r.state.length}${r.priority[0]}${r.put}`).join(),
    [runs],
  );
  const [stamp, setStamp] = useState(text);
  const waits = useRef<number>(0);
  useEffect(() => {
    window.clearTimeout(waits.current);
    waits.current = window.setTimeout(() => setStamp(text), 300);
    return () => window.clearTimeout(waits.current);
  }, [text]);
  return stamp;
}

function Pick({
  name,
  label = name,
  address,
  onSet,
  options,
}: {
  name: string;
  label?: string;
  address: URLSearchParams;
  onSet: (changes: Record<string, string>) => void;
  options: [string, string][];
}) {
  const value = address.get(name) ?? "";
  const all =
    value === "" || options.some(([v]) => v === value) ? options : [...options, [value, value] as [string, string]];
  return (
    <label className="text-[11px] text-muted">
      {label}
      <select
        className="select mt-[2px] flex w-32 select-sm max-sm:w-[76px]"
        value={value}
        onChange={(event) => onSet({ [name]: event.target.value })}
      >
        <option value="">all</option>
        {all.map(([v, text]) => (
          <option key={v} value={v}>
            {text}
          </option>
        ))}
      </select>
    </label>
  );
}

function Pages({ page, pages, onPage }: { page: number; pages: number; onPage: (page: number) => void }) {
  return (
    <nav aria-label="Pages of the queue" className="mt-3 flex items-center gap-2">
      <button type="button" className="btn btn-sm" disabled={page <= 1} onClick={() => onPage(page - 1)}>
        Page before
      </button>
      <label className="flex items-center gap-2 text-xs text-muted">
        page
        <input
          key={page}
          className="input num w-16 input-sm"
          inputMode="numeric"
          defaultValue={page}
          aria-label={`Page, of ${pages}`}
          onKeyDown={(event) => {
            const n = Number(event.currentTarget.value);
            if (event.key === "Enter" && Number.isInteger(n) && n >= 1) {
              onPage(Math.min(n, pages));
            }
          }}
        />
        of {pages}
      </label>
      <button type="button" className="btn btn-sm" disabled={page >= pages} onClick={() => onPage(page + 1)}>
        Next page
      </button>
    </nav>
  );
}

/** What can be done with the runs that are picked. */
function Acts({ chosen, me, onNone }: { chosen: Run[]; me: Me; onNone: () => void }) {
  const { go } = useSteer();
  const [asking, setAsking] = useState<"hold" | "cancel" | null>(null);
  if (chosen.length === 0) {
    return null;
  }
  const mine = chosen.filter((r) => maySteer(me, r));
  const can = {
    hold: mine.filter((r) => r.ended_at === null && r.state !== "held"),
    release: mine.filter((r) => r.state === "held"),
    cancel: mine.filter((r) => r.ended_at === null),
    retry: mine.filter((r) => r.parked_count > 0 && r.state !== "cancelled"),
  };
  return (
    <div
      role="toolbar"
      aria-label="Picked runs"
      className="fixed inset-x-0 bottom-0 z-30 flex flex-wrap items-center gap-2 border-t border-hair bg-base-300 px-6 py-3 max-sm:bottom-[53px] sm:left-[76px]"
    >
      <span className="mr-2">
        <b>{chosen.length}</b> picked
        {mine.length < chosen.length && (
          <span className="text-muted">, {chosen.length - mine.length} not yours to steer</span>
        )}
      </span>
      <button type="button" className="btn btn-sm" disabled={can.hold.length === 0} onClick={() => setAsking("hold")}>
        Hold {can.hold.length || ""}
      </button>
      <button
        type="button"
        className="btn btn-sm"
        disabled={can.release.length === 0}
        onClick={() => can.release.forEach((r) => void go(r, "release"))}
      >
        Release {can.release.length || ""}
      </button>
      <button
        type="button"
        className="btn btn-sm"
        disabled={can.retry.length === 0}
        onClick={() => can.retry.forEach((r) => void go(r, "retry"))}
      >
        Try again {can.retry.length || ""}
      </button>
      <button
        type="button"
        className="btn btn-sm"
        disabled={can.cancel.length === 0}
        onClick={() => setAsking("cancel")}
      >
        Cancel {can.cancel.length || ""}
      </button>
      <span className="grow" />
      <button type="button" className="btn btn-ghost btn-sm" onClick={onNone}>
        Pick none
      </button>
      {asking && (
        <AskToSteer what={asking} runs={asking === "hold" ? can.hold : can.cancel} onDone={() => setAsking(null)} />
      )}
    </div>
  );
}
