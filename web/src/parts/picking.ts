import { type MouseEvent, useRef } from "react";

/** How boxes of a list are ticked: with Shift, all from the one that was ticked
 * last to this one. */
export function usePicking<T>(
  items: T[],
  keyOf: (item: T) => number,
  onPick: (items: T[], on: boolean) => void,
): (item: T) => (event: MouseEvent<HTMLInputElement>) => void {
  const last = useRef<number | null>(null);
  return (item) => (event) => {
    const on = event.currentTarget.checked;
    const at = items.findIndex((x) => keyOf(x) === keyOf(item));
    const from = event.shiftKey && last.current !== null ? items.findIndex((x) => keyOf(x) === last.current) : -1;
    last.current = keyOf(item);
    onPick(from < 0 ? [item] : items.slice(Math.min(from, at), Math.max(from, at) + 1), on);
  };
}
