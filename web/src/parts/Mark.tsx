/** The mark: a crossbar with a square cloth hanging from it. */
export function Mark({ className }: { className?: string }) {
  return (
    <svg className={className} viewBox="0 0 34 40" role="img" aria-label="Vexillum">
      <path d="M3 8H31" stroke="var(--brass)" strokeWidth="2.6" strokeLinecap="round" />
      <path d="M17 2V8" stroke="var(--brass)" strokeWidth="2.2" />
      <circle cx="17" cy="2.4" r="1.8" fill="var(--brass)" />
      <path d="M6 10h22v24H6z" fill="var(--oxblood)" />
      <path d="M6 25h22v9H6z" fill="#000" opacity=".22" />
    </svg>
  );
}
