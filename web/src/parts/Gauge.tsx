/** How much of something is in use, as a bar with its figure. */
export function Gauge({ name, part, text }: { name: string; part: number; text?: string }) {
  const per = Math.round(100 * Math.min(1, Math.max(0, part)));
  return (
    <span className="flex items-center gap-2 whitespace-nowrap" title={`${name}: ${per} % in use`}>
      <svg
        viewBox="0 0 60 6"
        className="h-[6px] w-[60px] shrink-0"
        role="img"
        aria-label={`${name}: ${per} % in use`}
        preserveAspectRatio="none"
      >
        <rect x=".5" y=".5" width="59" height="5" fill="none" stroke="var(--s-todo)" />
        <rect x="0" y="0" width={0.6 * per} height="6" fill="var(--s-dealt)" />
      </svg>
      <span className="num text-[11px] text-muted">{text ?? `${per} %`}</span>
    </span>
  );
}

/** An amount of memory or disk in binary units. */
export function amount(bytes: number): string {
  const units = ["B", "KiB", "MiB", "GiB", "TiB"];
  let n = bytes;
  let unit = 0;
  while (n >= 1024 && unit < units.length - 1) {
    n /= 1024;
    unit++;
  }
  return `${unit === 0 ? n : n.toFixed(1)} ${units[unit]}`;
}
