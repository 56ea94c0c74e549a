import {
  createContext,
  type ReactNode,
  useContext,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { useToast } from "./toast";

interface Still {
  held: boolean;
  /** The list has just moved. */
  moved: () => void;
}

const StillContext = createContext<Still>({ held: false, moved: () => undefined });

const justNow = 400; // ms in which nobody can have seen that a list has moved

const rowOf = (target: EventTarget | null) => (target instanceof Element ? target.closest("[data-still]") : null);

/** An area in which nothing moves under the pointer: while that, or the
 * keyboard, is on something marked data-still, lists made by useStill keep their
 * members and their order. A press on what has only just come there does
 * nothing. */
export function StillArea({ children }: { children: ReactNode }) {
  const [held, setHeld] = useState(false);
  const tell = useToast();
  const movedAt = useRef(0);
  const onIt = useRef(false);
  const swallow = useRef(false);
  const box = useRef<HTMLDivElement>(null);
  // The whole page is listened to: what goes away under the pointer tells of no leaving.
  useEffect(() => {
    const look = (event: PointerEvent) => {
      onIt.current = rowOf(event.target) !== null && box.current!.contains(event.target as globalThis.Node);
      setHeld(onIt.current);
    };
    const gone = () => {
      onIt.current = false;
      setHeld(false);
    };
    const root = document.documentElement;
    root.addEventListener("pointermove", look);
    root.addEventListener("pointerover", look);
    root.addEventListener("pointerleave", gone);
    window.addEventListener("blur", gone);
    return () => {
      root.removeEventListener("pointermove", look);
      root.removeEventListener("pointerover", look);
      root.removeEventListener("pointerleave", gone);
      window.removeEventListener("blur", gone);
    };
  }, []);
  const still = useMemo(() => ({ held, moved: () => (movedAt.current = Date.now()) }), [held]);
  return (
    <StillContext.Provider value={still}>
      <div
        ref={box}
        className="contents"
        onPointerDownCapture={(event) => {
          swallow.current = rowOf(event.target) !== null && Date.now() - movedAt.current < justNow;
        }}
        onClickCapture={(event) => {
          if (swallow.current) {
            swallow.current = false;
            event.preventDefault();
            event.stopPropagation();
            tell({ text: "The list moved just as you pressed, so nothing was done. Press again." });
          }
        }}
        onFocus={(event) => event.target.matches(":focus-visible") && setHeld(rowOf(event.target) !== null)}
        onBlur={() => setHeld(onIt.current)}
      >
        {children}
      </div>
    </StillContext.Provider>
  );
}

/** The items in the order in which they are shown, and how many changes of that
 * order wait while somebody points at the list. What somebody asked for in
 * another way is shown at once. */
export function useStill<T>(
  items: T[],
  keyOf: (item: T) => string | number,
  asked = "",
): { shown: T[]; waiting: number } {
  const { held, moved } = useContext(StillContext);
  const kept = useRef<T[]>([]);
  const before = useRef(asked);
  if (before.current !== asked) {
    before.current = asked;
    kept.current = items;
  }
  let shown = items;
  let waiting = 0;
  if (held) {
    const now = new Map(items.map((item) => [keyOf(item), item]));
    shown = kept.current.map((item) => now.get(keyOf(item)) ?? item);
    const there = new Set(kept.current.map(keyOf));
    waiting =
      items.filter((item) => !there.has(keyOf(item))).length +
      kept.current.filter((item) => !now.has(keyOf(item))).length;
    if (waiting === 0 && items.some((item, i) => keyOf(item) !== keyOf(shown[i]))) {
      waiting = 1;
    }
  }
  const order = shown.map(keyOf).join(" ");
  const last = useRef<{ order: string; asked: string } | null>(null);
  useEffect(() => {
    kept.current = shown;
  });
  useLayoutEffect(() => {
    if (last.current !== null && last.current.order !== order && last.current.asked === asked) {
      moved();
    }
    last.current = { order, asked };
  }, [order, asked, moved]);
  return { shown, waiting };
}

/** Says that changes wait. */
export function Waiting({ count }: { count: number }) {
  return count === 0 ? null : (
    <span className="text-brass">{count === 1 ? "1 change waits" : `${count} changes wait`} while you point here</span>
  );
}
