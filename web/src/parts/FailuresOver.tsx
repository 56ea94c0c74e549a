import type { Night } from "../api/client";
import { clock, whole } from "./time";

/** How many tries failed over a while: a row a cause, the more the higher. */
export function FailuresOver({ of: night, now }: { of: Night; now: number }) {
  const most = Math.max(1, ...night.over.flatMap((b) => Object.values(b.tries)));
  if (night.causes.length === 0 || night.over.length === 0) {
    return null;
  }
  const parts = night.over.length;
  return (
    <div
      role="img"
      aria-label={`Failed tries over time: ${night.causes.map((c) => `${c.cause} ${c.tries}`).join(", ")}`}
    >
      {night.causes.map((c) => (
        <div
          key={c.cause}
          className="grid grid-cols-[110px_minmax(0,1fr)_44px] items-end gap-x-3 border-b border-hair py-[2px]"
        >
          <span className="truncate text-xs text-muted" title={c.cause}>
            {c.cause}
          </span>
          <svg viewBox={`0 0 ${parts * 10} 20`} preserveAspectRatio="none" className="h-5 w-full" aria-hidden="true">
            {night.over.map((b, i) => {
              const n = b.tries[c.cause] ?? 0;
              const high = n && Math.max(2.5, (20 * n) / most);
              return (
                <rect key={b.at} x={i * 10 + 1} width="8" y={20 - high} height={high} fill="var(--s-failed)">
                  <title>{`${whole(b.at)}: ${n} by ${c.cause}`}</title>
                </rect>
              );
            })}
          </svg>
          <span className="num text-right text-xs">{c.tries}</span>
        </div>
      ))}
      <p className="num grid grid-cols-[110px_minmax(0,1fr)_44px] gap-x-3 text-[11px] text-muted">
        <span />
        <span className="flex justify-between">
          {[0, 0.25, 0.5, 0.75].map((part) => (
            <span key={part} className={part === 0.25 || part === 0.75 ? "max-sm:hidden" : ""}>
              {clock(night.over[Math.floor(part * parts)].at, now)}
            </span>
          ))}
          <span>{clock(night.to, now)}</span>
        </span>
      </p>
    </div>
  );
}
