import { type ReactNode, useEffect, useRef, useState } from "react";

interface Props {
  title: string;
  children: ReactNode;
  yes: string;
  no?: string; // "Leave it" when left out
  danger?: boolean;
  disabled?: boolean; // there is nothing to say yes to yet
  /** What it does. Where it returns a promise, the dialog stays until that is
   * kept; an error is told in it, and what was filled in stays. */
  onYes: () => void | Promise<unknown>;
  onNo: () => void;
}

/** Says what will happen and asks for a yes. */
export function Confirm({ title, children, yes, no = "Leave it", danger, disabled, onYes, onNo }: Props) {
  const dialog = useRef<HTMLDialogElement>(null);
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState(false);
  useEffect(() => dialog.current?.showModal(), []);
  const go = async () => {
    setBusy(true);
    setProblem("");
    try {
      await onYes();
      dialog.current?.close();
    } catch (error) {
      setProblem((error as Error).message);
      setBusy(false);
    }
  };
  return (
    <dialog ref={dialog} className="modal" onClose={onNo} aria-labelledby="confirm-title">
      <form
        className="modal-box border border-hair bg-base-200"
        onSubmit={(event) => {
          event.preventDefault();
          if (!busy && !disabled) void go();
        }}
      >
        <h2 id="confirm-title" className="text-base font-semibold break-words">
          {title}
        </h2>
        <div className="mt-2 break-words text-muted">{children}</div>
        {problem && (
          <p role="alert" className="mt-3 text-failed">
            <span aria-hidden="true">✕ </span>
            {problem}
          </p>
        )}
        <div className="modal-action">
          <button type="button" className="btn btn-sm" onClick={() => dialog.current?.close()}>
            {no}
          </button>
          <button
            type="submit"
            className={`btn btn-sm ${danger ? "btn-primary" : "btn-neutral"}`}
            disabled={busy || disabled}
          >
            {yes}
          </button>
        </div>
      </form>
      <form method="dialog" className="modal-backdrop">
        <button type="submit" aria-label="Close" tabIndex={-1} />
      </form>
    </dialog>
  );
}
