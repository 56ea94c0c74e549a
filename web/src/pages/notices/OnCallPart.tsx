import { useQuery } from "@tanstack/react-query";
import type { ChangeEvent } from "react";
import { getOnCall, setOnCall } from "../../api/client";
import { clock, useNow } from "../../parts/time";
import { useToast } from "../../parts/toast";

/** Who is on call, now and in the next days, by the farm's calendar. */
export function OnCallPart({ wrangler }: { wrangler: boolean }) {
  const call = useQuery({ queryKey: ["on-call"], queryFn: getOnCall, refetchInterval: 30_000 });
  const tell = useToast();
  const now = useNow(10_000);
  const read = async (event: ChangeEvent<HTMLInputElement>) => {
    const file = event.target.files?.[0];
    event.target.value = "";
    if (!file) {
      return;
    }
    try {
      await setOnCall(await file.text());
      await call.refetch();
      tell({ text: `${file.name} says who is on call.` });
    } catch (error) {
      tell({ text: (error as Error).message, bad: true });
    }
  };
  return (
    <section aria-label="On call">
      <h2 className="section">
        <b>On call</b> by the farm's calendar
        {wrangler && (
          <label className="btn ml-auto btn-xs">
            Read a calendar (.ics)
            <input type="file" accept=".ics,text/calendar" className="sr-only" onChange={(e) => void read(e)} />
          </label>
        )}
      </h2>
      {call.isError && <p className="text-failed">✕ {call.error.message}</p>}
      {call.data && (
        <p className="py-1 text-[13px]">
          {!call.data.there
            ? "There is no calendar: all such channels are told."
            : call.data.now.length === 0
              ? "Nobody is named for now: all such channels are told."
              : `${call.data.now.join(" and ")} ${call.data.now.length === 1 ? "is" : "are"} on call.`}
        </p>
      )}
      <ul className="text-[13px] text-muted">
        {call.data?.turns.slice(0, 14).map((turn) => (
          <li key={turn.person + turn.from} className="grid grid-cols-[120px_minmax(0,1fr)] gap-x-4 py-[2px]">
            <span className="truncate">{turn.person}</span>
            <span className="num">
              {clock(turn.from, now)} – {clock(turn.to, now)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
