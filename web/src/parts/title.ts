import { useEffect } from "react";

/** Names the page in the browser's title. */
export function useTitle(name: string): void {
  useEffect(() => {
    document.title = `${name} – Vexillum`;
  }, [name]);
}
