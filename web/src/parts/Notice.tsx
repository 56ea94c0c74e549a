import type { ReactNode } from "react";
import { Mark } from "./Mark";

/** A page that has nothing else to show: what is the matter, and what next. */
export function Notice({ title, text, children }: { title: string; text: string; children?: ReactNode }) {
  return (
    <main className="mx-auto flex min-h-screen max-w-md flex-col items-start justify-center gap-3 px-6">
      <Mark className="h-10 w-[34px]" />
      <h1 className="text-lg font-semibold">{title}</h1>
      <p className="text-muted">{text}</p>
      {children}
    </main>
  );
}
