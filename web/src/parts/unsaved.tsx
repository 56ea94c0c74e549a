import { type ReactNode, useEffect } from "react";
import { useBlocker } from "react-router";
import { Confirm } from "./Confirm";

/** Asks before unsaved work is lost, by a link, by going back, and by closing or reloading the page. what
 * names the work; empty: there is none. The dialog is to be put on the page. */
export function useUnsaved(what: string): ReactNode {
  const unsaved = what !== "";
  const blocker = useBlocker(
    ({ currentLocation, nextLocation }) => unsaved && currentLocation.pathname !== nextLocation.pathname,
  );
  useEffect(() => {
    const ask = (event: BeforeUnloadEvent) => event.preventDefault();
    if (unsaved) {
      window.addEventListener("beforeunload", ask);
    }
    return () => window.removeEventListener("beforeunload", ask);
  }, [unsaved]);
  return (
    blocker.state === "blocked" && (
      <Confirm
        title="Leave without saving?"
        yes="Leave and discard"
        no="Stay"
        danger
        onYes={() => blocker.proceed()}
        onNo={() => blocker.reset?.()}
      >
        {what}
      </Confirm>
    )
  );
}
