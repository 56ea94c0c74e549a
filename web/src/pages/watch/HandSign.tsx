const bars = ["scouts", "delivery", "full", "held", "failing", "step", "place"];

/** The sign of what needs a hand. */
export function Sign({ kind }: { kind: string }) {
  return (
    <svg viewBox="0 0 16 16" className="w-4 shrink-0" aria-hidden="true">
      {kind === "silent" || kind === "hush" ? (
        <rect
          x="2.5"
          y="2.5"
          width="11"
          height="11"
          fill="none"
          stroke="var(--muted)"
          strokeDasharray="2.4 2"
          strokeWidth="1.6"
        />
      ) : kind === "at risk" || kind === "nobody" || kind === "preflight" || kind === "spent" || kind === "budget" ? (
        <path d="M8 2.5l6 11H2z" fill="none" stroke="var(--s-failed)" strokeWidth="1.6" strokeLinejoin="round" />
      ) : bars.includes(kind) ? (
        <path d="M5.5 2.5v11m5-11v11" stroke="var(--s-held)" strokeWidth="2" />
      ) : (
        <>
          <rect x="2" y="2" width="12" height="12" fill="none" stroke="var(--s-failed)" strokeWidth="1.6" />
          <path d="M5.5 5.5l5 5m0-5l-5 5" stroke="var(--s-failed)" strokeWidth="1.6" />
        </>
      )}
    </svg>
  );
}
