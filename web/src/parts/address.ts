import { useCallback, useEffect, useRef } from "react";
import { useSearchParams } from "react-router";

/** What stands behind the question mark of the page's address, and a function
 * that changes some of it; an empty value takes one away. Changes made one right
 * after the other add up: each starts from the address as the browser has it,
 * not from the one that was drawn last. */
export function useAddress(): [URLSearchParams, (changes: Record<string, string>) => void] {
  const [address, setAddress] = useSearchParams();
  const write = useRef(setAddress);
  useEffect(() => {
    write.current = setAddress;
  });
  const change = useCallback((changes: Record<string, string>) => {
    const next = new URLSearchParams(window.location.search);
    for (const [name, value] of Object.entries(changes)) {
      if (value === "") {
        next.delete(name);
      } else {
        next.set(name, value);
      }
    }
    write.current(next, { replace: true });
  }, []);
  return [address, change];
}
