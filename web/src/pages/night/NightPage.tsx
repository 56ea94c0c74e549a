import { keepPreviousData, useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { getNight, type Night, type PastHand, thumbnail } from "../../api/client";
import { useAddress } from "../../parts/address";
import { FailuresOver } from "../../parts/FailuresOver";
import { StateWord } from "../../parts/StateWord";
import { TimeOfDay } from "../../parts/TimeOfDay";
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
          <p className="text-[13px] text-muted">{v ? `${dated(v.from)} to ${dated(v.to)}` : " "}</p>
        </div>
        <span className="flex flex-wrap items-end gap-3 text-xs text-muted">
          <When label="night of" type="date" value={day} onChange={(value) => change({ day: value })} />
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
  return props.type === "time" ? (
    <span className="flex items-center gap-2">
      {props.label}
      <TimeOfDay
        className="input w-16 input-xs text-base-content"
        label={props.label}
        value={props.value}
        onChange={props.onChange}
      />
    </span>
  ) : (
    <label className="flex items-center gap-2">
      {props.label}
      <input
        type="date"
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
  const late = v.ended.filter((r) => r.late_seconds > 0).length;
  return (
    <>
      {v.outages.length > 0 && (
        <Part title="Not available" note="the service or its database" count={v.outages.length} none="">
          <ul>
            {v.outages.map((o) => (
              <li key={o.from} className="border-b border-hair py-1 text-[13px]">
                <span className="num">
                  {clock(o.from, now)} to {clock(o.to, now)}
                </span>{" "}
                for {span(Date.parse(o.to) - Date.parse(o.from))}: {o.why}
              </li>
            ))}
          </ul>
        </Part>
      )}
      <Part
        title="Ended"
        note={`${v.ended.length === 1 ? "1 run" : `${v.ended.length} runs`}${late > 0 ? `, ${late} late` : ""}`}
        count={v.ended.length}
        none="No run ended."
      >
        <EndedRuns of={v.ended} now={now} />
      </Part>
      <Part title="Waiting for a person" count={waits.length} none="Nothing waits for a person.">
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
      <Part title="Handled automatically" count={v.deeds.length} none="Nothing had to be done.">
        <ul>
          {v.deeds.map((d, i) => (
            <li key={i} className="grid grid-cols-[76px_minmax(0,1fr)] border-b border-hair py-1 text-[13px]">
              <span className="num text-muted" title={whole(d.at)}>
                {clock(d.at, now)}
              </span>
              <To run={d.run} node={d.node}>
                {told(d.text, now)}
                {d.times > 1 && ` (${d.times} times)`}
              </To>
            </li>
          ))}
        </ul>
      </Part>
      <Part title="Resolved" count={over.length} none="Nothing else needed a person.">
        <HandLines of={over} now={now} />
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

/** The runs that ended, the late first, then those that did not end well. */
function EndedRuns({ of, now }: { of: Night["ended"]; now: number }) {
  const rank = (r: Night["ended"][number]) => (r.late_seconds > 0 ? 0 : r.state === "done" ? 2 : 1);
  const runs = [...of].sort((a, b) => rank(a) - rank(b));
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Runs that ended">
      <table className="w-full min-w-[640px] text-left text-[13px]">
        <thead className="text-xs text-muted">
          <tr>
            {["picture", "run", "state", "frames", "ended", "due", "machine time"].map((h) => (
              <th key={h} scope="col" className="py-1 pr-4 font-normal whitespace-nowrap">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {runs.map((r) => (
            <tr key={r.run} className="border-t border-hair">
              <td className="w-[76px] py-1 pr-4">
                {r.picture !== null && (
                  <img
                    src={thumbnail(r.run, r.picture)}
                    alt=""
                    loading="lazy"
                    className="h-9 w-16 bg-base-300 object-cover"
                    onError={(e) => {
                      e.currentTarget.style.visibility = "hidden";
                    }}
                  />
                )}
              </td>
              <td className="pr-4 break-words">
                <Link to={`/runs/${r.run}`} className="font-semibold hover:underline">
                  {r.name}
                </Link>
              </td>
              <td className="pr-4 whitespace-nowrap">
                <StateWord state={r.state} />
              </td>
              <td className="num pr-4">{r.frames}</td>
              <td className="num pr-4 whitespace-nowrap" title={whole(r.ended_at)}>
                {clock(r.ended_at, now)}
              </td>
              <td className="num pr-4 whitespace-nowrap">
                {r.due ? clock(r.due, now) : "–"}
                {r.late_seconds > 0 && <span className="text-failed"> ✕ {span(r.late_seconds * 1000)} late</span>}
              </td>
              <td className="num">{span(r.machine_hours * 3_600_000)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** A moment with its weekday and date, for a heading. */
const dated = (iso: string) =>
  new Date(iso).toLocaleString("en-GB", {
    weekday: "long",
    day: "numeric",
    month: "long",
    year: "numeric",
    hour: "2-digit",
    minute: "2-digit",
  });

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
