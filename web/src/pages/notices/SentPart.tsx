import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { getNotices, type SentNotice, sendNoticeAgain } from "../../api/client";
import { clock, told, useNow, whole } from "../../parts/time";
import { useToast } from "../../parts/toast";

/** Notices and what became of them, newest first. */
export function SentPart() {
  const pages = useInfiniteQuery({
    queryKey: ["notices"],
    queryFn: ({ pageParam }) => getNotices(pageParam),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 5000,
  });
  const queries = useQueryClient();
  const tell = useToast();
  const now = useNow(5000);
  const notices = pages.data?.pages.flatMap((p) => p.notices) ?? [];
  const again = (n: SentNotice) =>
    sendNoticeAgain(n.id)
      .then(() => {
        tell({ text: "It is on its way once more." });
        return queries.invalidateQueries({ queryKey: ["notices"] });
      })
      .catch((error: Error) => tell({ text: error.message, bad: true }));
  return (
    <section aria-label="Sent">
      <h2 className="section">
        <b>Sent</b> of the last two weeks
      </h2>
      {pages.isError && <p className="text-failed">✕ {pages.error.message}</p>}
      {pages.data && notices.length === 0 && <p className="py-2 text-muted">No notice was made yet.</p>}
      <ul>
        {notices.map((n) => (
          <li
            key={n.id}
            className="grid items-baseline gap-x-4 border-b border-hair py-2 text-[13px] sm:grid-cols-[80px_110px_minmax(0,1fr)_auto]"
          >
            <span className="num text-muted" title={whole(n.made_at)}>
              {clock(n.made_at, now)}
            </span>
            <span className="truncate" title={n.channel}>
              {n.channel}
            </span>
            <span className="min-w-0 break-words">
              {told(n.title)}
              <span className={`block text-xs ${n.state === "given up" ? "text-failed" : "text-muted"}`}>
                {standing(n, now)}
              </span>
            </span>
            <span>
              {n.state !== "waiting" && (
                <button type="button" className="btn btn-xs" onClick={() => void again(n)}>
                  Send again
                </button>
              )}
            </span>
          </li>
        ))}
      </ul>
      {pages.hasNextPage && (
        <button type="button" className="btn mt-3 btn-sm" onClick={() => void pages.fetchNextPage()}>
          Show older ones
        </button>
      )}
    </section>
  );
}

/** Where a notice stands, in words. */
function standing(n: SentNotice, now: number): string {
  const tries = n.tries > 1 ? `, ${n.tries} tries` : "";
  const answer = n.answer && `: ${n.answer}`;
  if (n.state !== "waiting") {
    return `${n.state}${tries}${answer}`;
  }
  const later = n.next_at && Date.parse(n.next_at) > now ? ` until ${clock(n.next_at, now)}` : "";
  return `waits${later}${tries}${answer}`;
}
