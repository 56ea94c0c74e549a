import { createContext, type ReactNode, useCallback, useContext, useState } from "react";

interface Toast {
  text: string;
  bad?: boolean;
  undo?: () => void;
  /** What may be done all the same; the toast stays until that is decided. */
  offer?: { label: string; act: () => void };
}

const ToastContext = createContext<(toast: Toast) => void>(() => {});

/** Tells for a moment what an action did. */
export const useToast = () => useContext(ToastContext);

export function ToastProvider({ children }: { children: ReactNode }) {
  const [shown, setShown] = useState<(Toast & { id: number })[]>([]);
  const tell = useCallback((toast: Toast) => {
    const id = Date.now() + Math.random();
    setShown((old) => [...old.slice(-2), { ...toast, id }]);
    if (!toast.offer) {
      window.setTimeout(() => setShown((old) => old.filter((t) => t.id !== id)), 8000);
    }
  }, []);
  return (
    <ToastContext.Provider value={tell}>
      {children}
      <div
        className="toast toast-end z-50 max-w-full whitespace-normal max-sm:bottom-[60px]"
        role="status"
        aria-live="polite"
      >
        {shown.map((toast) => (
          <div
            key={toast.id}
            className={`flex items-center gap-4 rounded border bg-base-300 px-4 py-2 ${toast.bad ? "border-failed" : "border-hair"}`}
          >
            <span>{toast.text}</span>
            {toast.undo && (
              <button
                type="button"
                className="btn btn-xs"
                onClick={() => {
                  toast.undo?.();
                  setShown((old) => old.filter((t) => t.id !== toast.id));
                }}
              >
                Undo
              </button>
            )}
            {toast.offer && (
              <>
                <button
                  type="button"
                  className="btn btn-xs"
                  onClick={() => {
                    toast.offer?.act();
                    setShown((old) => old.filter((t) => t.id !== toast.id));
                  }}
                >
                  {toast.offer.label}
                </button>
                <button
                  type="button"
                  className="btn btn-xs"
                  onClick={() => setShown((old) => old.filter((t) => t.id !== toast.id))}
                >
                  Leave it
                </button>
              </>
            )}
          </div>
        ))}
      </div>
    </ToastContext.Provider>
  );
}
