import type { ReactNode } from "react";

/** A field with its name above it, and below it what is wrong with what stands in it. */
export function Field({
  name,
  wrong,
  className = "",
  children,
}: {
  name: ReactNode;
  wrong?: string;
  className?: string;
  children: ReactNode;
}) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className={`flex min-w-0 flex-col gap-0.5 text-xs text-muted ${className}`}>
      <span className="truncate">{name}</span>
      {children}
      {wrong && (
        <span role="alert" className="text-failed">
          ✕ {wrong}
        </span>
      )}
    </label>
  );
}
