import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { getPastHands, type PastHand } from "../../api/client";
import { clock, span, told, useNow, whole } from "../../parts/time";
import { useTitle } from "../../parts/title";

/** All that needed a hand, the newest first, and what became of it. */
export function HandsPage() {
  useTitle("What needed a hand");
  const now = useNow(10_000);
  const pages = useInfiniteQuery({
    queryKey: ["past hands"],
    queryFn: ({ pageParam }) => getPastHands(pageParam),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next || undefined,
    refetchInterval: 10_000,
  });
  const hands = pages.data?.pages.flatMap((p) => p.hands) ?? [];
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-8 sm:px-6">
      <header className="border-b border-hair pb-3">
        <h1 className="text-xl font-[650]">What needed a hand</h1>
        <p className="text-[13px] text-muted">
          Each from when it was seen until it was over. What came again within half an hour is one.
        </p>
      </header>
      {pages.isError && <p className="py-3 text-failed">✕ {pages.error.message}</p>}
      {pages.data && hands.length === 0 && <p className="py-6 text-muted">Nothing has needed a hand.</p>}
      <ul>
        {hands.map((h) => (
          <li key={h.id} className="grid gap-x-4 border-b border-hair py-2 sm:grid-cols-[150px_minmax(0,1fr)_220px]">
            <p className="text-[13px]" title={whole(h.raised_at)}>
              <span className="num">{clock(h.raised_at, now)}</span>
              <span className="block text-xs text-muted">
                {over(h)}
                {h.count > 1 && `, ${h.count} times`}
              </span>
            </p>
            <p className="min-w-0 break-words">
              <Subject of={h} />
              <span className="line-clamp-2 text-[12.5px] leading-[17px] text-muted" title={told(h.evidence)}>
                {told(h.evidence)}
              </span>
            </p>
            <p className="text-[13px] break-words text-muted">{handled(h, now)}</p>
          </li>
        ))}
      </ul>
      {pages.hasNextPage && (
        <button
          type="button"
          className="btn mt-3 btn-sm"
          disabled={pages.isFetchingNextPage}
          onClick={() => void pages.fetchNextPage()}
        >
          Show older ones
        </button>
      )}
    </main>
  );
}

/** The sentence, leading to what it is about. */
function Subject({ of: h }: { of: PastHand }) {
  const to = h.run ? `/runs/${h.run}` : h.node ? `/nodes/${h.node}` : "";
  return to ? (
    <Link to={to} className="hover:underline">
      {told(h.sentence)}
    </Link>
  ) : (
    told(h.sentence)
  );
}

/** How long it took until it was over, or somebody had done with it. */
function over(h: PastHand): string {
  const at = h.ended_at ?? h.resolved_at;
  return at ? `over after ${span(Date.parse(at) - Date.parse(h.raised_at))}` : "not over";
}

/** What somebody did about it. */
function handled(h: PastHand, now: number): string {
  const out: string[] = [];
  if (h.resolved_by) {
    out.push(`Resolved by ${h.resolved_by}${h.note ? `: ${h.note}` : ""}`);
  } else if (h.taken_by) {
    out.push(`${h.taken_by} ${h.ended_at ? "saw" : "sees"} to it`);
  }
  if (h.snoozed_until && Date.parse(h.snoozed_until) > now && !h.ended_at) {
    out.push(`put off by ${h.snoozed_by} until ${clock(h.snoozed_until, now)}`);
  }
  return out.join("; ");
}
