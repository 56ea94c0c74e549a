import { useEffect, useRef } from "react";
import type { Me } from "../api/client";
import { pagesFor } from "./Frame";

const keys = [
  ["/", "search on this page"],
  ["j, k", "next and previous row"],
  ["Enter", "open the row"],
  ["← →", "on the page of a run: a frame back or on"],
  ["Shift ← →", "ten frames"],
  ["p", "the next pass of the frame"],
  ["n", "follow the newest frame again"],
  ["?", "this list"],
];

/** The keys that work. */
export function Help({ me, onClose }: { me: Me; onClose: () => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => dialog.current?.showModal(), []);
  const all = [...pagesFor(me).map((p) => [`g then ${p.key}`, `${p.name} page`]), ...keys];
  return (
    <dialog ref={dialog} className="modal" onClose={onClose} aria-labelledby="help-title">
      <div className="modal-box max-w-sm border border-hair bg-base-200">
        <h2 id="help-title" className="text-base font-semibold">
          Keys
        </h2>
        <dl className="mt-3 grid grid-cols-[110px_1fr] gap-y-1">
          {all.map(([key, what]) => (
            <div key={key} className="contents">
              <dt className="num text-brass">{key}</dt>
              <dd className="text-muted">{what}</dd>
            </div>
          ))}
        </dl>
        <div className="modal-action">
          <button type="button" className="btn btn-sm" onClick={() => dialog.current?.close()}>
            Close
          </button>
        </div>
      </div>
    </dialog>
  );
}
