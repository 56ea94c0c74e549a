import type { ReactNode } from "react";
import { Mark } from "./Mark";

/** A page that has nothing else to show: what is the matter, and what next. */
export function Notice({ title, text, children }: { title: string; text: string; children?: ReactNode }) {
  return (
    <main className="mx-auto flex min-h-[80vh] max-w-md flex-col items-start justify-center gap-3 px-6">
      <Mark className="h-10 w-[34px]" />
      <h1 className="text-lg font-semibold">{title}</h1>
      <p className="max-w-full break-words text-muted" role="status">
        {text}
      </p>
      {children}
    </main>
  );
}

/** Something is being read. After the first try in vain it says so; it goes on by
 * itself. */
export function Waits({
  query,
  what,
}: {
  query: { failureCount: number; failureReason?: Error | null };
  what: string;
}) {
  if (query.failureCount > 0) {
    return (
      <Notice
        title="The service does not answer"
        text={`${query.failureReason?.message ?? ""} This page keeps trying, and shows what there is as soon as it can.`}
      />
    );
  }
  return <Notice title="One moment" text={what} />;
}
