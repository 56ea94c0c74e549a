import { useEffect, useRef, type ReactNode } from "react";

/** Says what will happen and asks for a yes. */
export function Confirm(props: { title: string; children: ReactNode; yes: string; danger?: boolean; onYes: () => void; onNo: () => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => dialog.current?.showModal(), []);
  return (
    <dialog ref={dialog} className="modal" onClose={props.onNo} aria-labelledby="confirm-title">
      <div className="modal-box border border-hair bg-base-200">
        <h2 id="confirm-title" className="text-base font-semibold">
          {props.title}
        </h2>
        <div className="mt-2 text-muted">{props.children}</div>
        <div className="modal-action">
          <button className="btn btn-sm" onClick={() => dialog.current?.close()}>
            Leave it
          </button>
          <button
            className={`btn btn-sm ${props.danger ? "btn-primary" : "btn-neutral"}`}
            onClick={() => {
              props.onYes();
              dialog.current?.close();
            }}
          >
            {props.yes}
          </button>
        </div>
      </div>
      <form method="dialog" className="modal-backdrop">
        <button aria-label="Close" tabIndex={-1} />
      </form>
    </dialog>
  );
}
