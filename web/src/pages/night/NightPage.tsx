import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { getNight, type Night, type PastHand } from "../../api/client";
import { useAddress } from "../../parts/address";
import { FailuresOver } from "../../parts/FailuresOver";
import { clock, span, told, useNow, whole } from "../../parts/time";
import { useTitle } from "../../parts/title";

/** What went wrong in a night, what it cost, what was done about it, and what waits. */
export function NightPage() {
  useTitle("The night");
  const [address, change] = useAddress();
  const from = address.get("from") || "19:00";
  const to = address.get("to") || "08:00";
  const day = address.get("day") ?? "";
  const now = useNow(10_000);
  const night = useQuery({
    queryKey: ["night", from, to, day],
    queryFn: () => getNight(from, to, day),
    refetchInterval: 15_000,
    placeholderData: keepPreviousData,
  });
  const v = night.data;
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-8 sm:px-6">
      <header className="flex flex-wrap items-end gap-x-6 gap-y-2 border-b border-hair pb-3">
        <div className="min-w-0 flex-1 max-sm:basis-full">
          <h1 className="text-xl font-[650]">The night</h1>
          <p className="text-[13px] text-muted">{v ? `${clock(v.from, now)} to ${clock(v.to, now)}` : " "}</p>
        </div>
        <span className="flex flex-wrap items-end gap-3 text-xs text-muted">
          <When label="of" type="date" value={day} onChange={(value) => change({ day: value })} />
          <When label="from" type="time" value={from} onChange={(value) => change({ from: value })} />
          <When label="to" type="time" value={to} onChange={(value) => change({ to: value })} />
        </span>
      </header>
      {night.isError && <p className="py-3 text-failed">✕ {night.error.message}</p>}
      {v && <Report of={v} now={now} />}
    </main>
  );
}

function When(props: { label: string; type: "date" | "time"; value: string; onChange: (value: string) => void }) {
  return (
    <label className="flex items-center gap-2">
      {props.label}
      <input
        type={props.type}
        className="input num w-34 input-xs text-base-content"
        value={props.value}
        onChange={(e) => props.onChange(e.target.value)}
      />
    </label>
  );
}

function Report({ of: v, now }: { of: Night; now: number }) {
  const waits = v.hands.filter((h) => !h.ended_at && !h.resolved_by);
  const over = v.hands.filter((h) => h.ended_at || h.resolved_by);
  const states = ["done", "done with gaps", "failed", "cancelled"];
  return (
    <>
      <Part title="Waits for a person" count={waits.length} none="Nothing waits for a person.">
        <HandLines of={waits} now={now} />
      </Part>
      <Part
        title="Failed"
        note={v.tries > 0 ? `${tries(v.tries)}, ${minutes(v.minutes)} of nodes` : ""}
        none="Nothing failed."
        count={v.tries}
      >
        <FailuresOver of={v} now={now} />
        <div className="mt-3 overflow-x-auto" tabIndex={0} role="region" aria-label="What failed, by cause">
          <table className="w-full min-w-[640px] text-left text-[13px]">
            <thead className="text-xs text-muted">
              <tr>
                {["cause", "frames", "not done", "cost", "mostly to blame", "runs", "nodes"].map((h) => (
                  <th key={h} className="py-1 pr-4 font-normal whitespace-nowrap">
                    {h}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {v.causes.map((c) => (
                <tr key={c.cause} className="border-t border-hair align-baseline">
                  <td className="py-1 pr-4 whitespace-nowrap">{c.cause}</td>
                  <td className="num pr-4">{c.frames}</td>
                  <td className={`num pr-4 whitespace-nowrap ${c.open > 0 ? "text-failed" : "text-muted"}`}>
                    {c.open > 0 ? `✕ ${c.open}` : "–"}
                  </td>
                  <td className="num pr-4 whitespace-nowrap">{minutes(c.minutes)}</td>
                  <td className="pr-4">{c.blame || "–"}</td>
                  <td className="pr-4 break-words">{some(c.runs)}</td>
                  <td className="break-words">{some(c.nodes)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </Part>
      <Part title="Done about it by itself" count={v.deeds.length} none="Nothing had to be done.">
        <ul>
          {v.deeds.map((d, i) => (
            <li key={i} className="grid grid-cols-[76px_minmax(0,1fr)] border-b border-hair py-1 text-[13px]">
              <span className="num text-muted" title={whole(d.at)}>
                {clock(d.at, now)}
              </span>
              <To run={d.run} node={d.node}>
                {told(d.text, now)}
              </To>
            </li>
          ))}
        </ul>
      </Part>
      <Part title="Needed a person, and is over" count={over.length} none="Nothing else needed a person.">
        <HandLines of={over} now={now} />
      </Part>
      <Part title="Ended" count={v.ended.length} none="No run ended.">
        {states.map((state) => {
          const runs = v.ended.filter((r) => r.state === state);
          return (
            runs.length > 0 && (
              <p key={state} className="py-1 text-[13px] break-words">
                <span className="text-muted">
                  <span className="num">{runs.length}</span> {state}:
                </span>{" "}
                {runs.map((r, i) => (
                  <span key={r.run}>
                    {i > 0 && ", "}
                    <Link to={`/runs/${r.run}`} className="hover:underline">
                      {r.name}
                    </Link>
                  </span>
                ))}
              </p>
            )
          );
        })}
      </Part>
    </>
  );
}

function Part(props: { title: string; count: number; none: string; note?: string; children: ReactNode }) {
  return (
    <section aria-label={props.title}>
      <h2 className="section">
        <b>{props.title}</b> {props.note ?? (props.count > 0 ? props.count : "")}
      </h2>
      {props.count === 0 ? <p className="text-[13px] text-muted">{props.none}</p> : props.children}
    </section>
  );
}

function HandLines({ of: hands, now }: { of: PastHand[]; now: number }) {
  return (
    <ul>
      {hands.map((h) => (
        <li key={h.id} className="grid grid-cols-[76px_minmax(0,1fr)] border-b border-hair py-1 text-[13px]">
          <span className="num text-muted" title={whole(h.raised_at)}>
            {clock(h.raised_at, now)}
          </span>
          <span className="min-w-0 break-words">
            <To run={h.run} node={h.node}>
              {told(h.sentence, now)}
            </To>{" "}
            <span className="text-muted">
              {h.resolved_by && `Resolved by ${h.resolved_by}${h.note ? `: ${h.note}` : ""}.`}
              {!h.resolved_by && h.taken_by && `${h.taken_by} ${h.ended_at ? "saw" : "sees"} to it.`}
              {h.ended_at && ` Over after ${span(Date.parse(h.ended_at) - Date.parse(h.raised_at))}.`}
            </span>
          </span>
        </li>
      ))}
    </ul>
  );
}

/** Leads to what something is about, if it is about something. */
function To({ run, node, children }: { run: number; node: number; children: ReactNode }) {
  const to = run ? `/runs/${run}` : node ? `/nodes/${node}` : "";
  return to ? (
    <Link to={to} className="min-w-0 break-words hover:underline">
      {children}
    </Link>
  ) : (
    <span className="min-w-0 break-words">{children}</span>
  );
}

const tries = (n: number) => (n === 1 ? "1 try" : `${n} tries`);
const minutes = (n: number) => span(n * 60_000);

function some(list: string[]): string {
  const most = 4;
  return list.length <= most ? list.join(", ") : `${list.slice(0, most).join(", ")} and ${list.length - most} more`;
}
