import { useEffect, useState } from "react";

/** A value once it has not changed for a number of ms. */
export function useDebounced<T>(value: T, wait: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(value), wait);
    return () => window.clearTimeout(timer);
  }, [value, wait]);
  return settled;
}
