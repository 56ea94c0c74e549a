import { createContext, type ReactNode, useContext, useState } from "react";

/** How often settings are read again, so that changes by other people appear, in milliseconds. */
export const lookAgain = 10_000;

/** Rows beyond these are shown when they are asked for. */
const mostShown = 40;

const FindContext = createContext("");

/** Provides the text that the page is searched for. */
export const Find = FindContext.Provider;

/** The rows of a part that match the search, and what to show below them: a way to see all, or that none match. */
export function useFound<T>(all: T[] | undefined, words: (row: T) => string[]): { shown: T[]; more: ReactNode } {
  const find = useContext(FindContext).trim().toLowerCase();
  const [whole, setWhole] = useState(false);
  const found = (all ?? []).filter((row) => find === "" || words(row).some((w) => w.toLowerCase().includes(find)));
  const shown = whole ? found : found.slice(0, mostShown);
  const none = find !== "" && found.length === 0 && (all ?? []).length > 0;
  const more = none ? (
    <p className="py-1 text-[13px] text-muted">No match for “{find}”.</p>
  ) : (
    shown.length < found.length && (
      <button type="button" className="btn mt-1 btn-ghost btn-xs" onClick={() => setWhole(true)}>
        Show all {found.length}
      </button>
    )
  );
  return { shown, more };
}

/** The id of a part, for links to it. */
export const anchor = (name: string) => name.toLowerCase().replaceAll(" ", "-");

/** One part of Setup, with its heading; the index links to it. */
export function Part({
  name,
  intro,
  action,
  error,
  children,
}: {
  name: string;
  intro: string;
  action?: ReactNode;
  error?: Error | null;
  children: ReactNode;
}) {
  return (
    <section aria-label={name} id={anchor(name)} className="scroll-mt-3">
      <h2 className="section flex items-baseline gap-2">
        <b>{name}</b> {intro}
        {action && <span className="ml-auto">{action}</span>}
      </h2>
      {error && (
        <p role="alert" className="text-failed">
          ✕ {error.message}
        </p>
      )}
      {children}
    </section>
  );
}

/** The headings of columns. className says from which width the rows have columns. */
export function Columns({ of, className }: { of: string[]; className: string }) {
  return (
    <div aria-hidden className={`hidden gap-x-4 pb-1 text-xs text-muted ${className}`}>
      {of.map((name) => (
        <span key={name}>{name}</span>
      ))}
    </div>
  );
}
