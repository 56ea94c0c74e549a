import { useEffect, useRef } from "react";

const keys = [
  ["g then w", "Watch page"],
  ["g then n", "Nodes page"],
  ["g then s", "Setup page"],
  ["j, k", "next and previous run"],
  ["Enter", "open the run"],
  ["← →", "a frame back or on, in the viewer"],
  ["Shift ← →", "ten frames"],
  ["p", "the next pass of the frame"],
  ["n", "follow the newest frame again"],
  ["?", "this list"],
];

/** The keys that work. */
export function Help({ onClose }: { onClose: () => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => dialog.current?.showModal(), []);
  return (
    <dialog ref={dialog} className="modal" onClose={onClose} aria-labelledby="help-title">
      <div className="modal-box max-w-sm border border-hair bg-base-200">
        <h2 id="help-title" className="text-base font-semibold">
          Keys
        </h2>
        <dl className="mt-3 grid grid-cols-[110px_1fr] gap-y-1">
          {keys.map(([key, what]) => (
            <div key={key} className="contents">
              <dt className="num text-brass">{key}</dt>
              <dd className="text-muted">{what}</dd>
            </div>
          ))}
        </dl>
        <div className="modal-action">
          <button className="btn btn-sm" onClick={() => dialog.current?.close()}>
            Close
          </button>
        </div>
      </div>
    </dialog>
  );
}
