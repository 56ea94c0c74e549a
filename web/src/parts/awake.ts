import { useEffect, useState } from "react";

const patience = 5000; // ms; somebody may only be looking at another page for a moment

/** Whether somebody can see the page. One that nobody sees keeps no line open:
 * a browser has only a few for all its pages of one service. */
export function useAwake(): boolean {
  const [awake, setAwake] = useState(!document.hidden);
  useEffect(() => {
    let timer = 0;
    const look = () => {
      window.clearTimeout(timer);
      if (document.hidden) {
        timer = window.setTimeout(() => setAwake(false), patience);
      } else {
        setAwake(true);
      }
    };
    document.addEventListener("visibilitychange", look);
    return () => {
      window.clearTimeout(timer);
      document.removeEventListener("visibilitychange", look);
    };
  }, []);
  return awake;
}

/** Closes a line when the page is left, also one that the browser keeps for
 * coming back; then again opens it anew. Returns how to end that. */
export function whileShown(close: () => void, again: () => void): () => void {
  const back = (event: PageTransitionEvent) => event.persisted && again();
  window.addEventListener("pagehide", close);
  window.addEventListener("pageshow", back);
  return () => {
    window.removeEventListener("pagehide", close);
    window.removeEventListener("pageshow", back);
  };
}
