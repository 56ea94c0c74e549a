import { useEffect, useLayoutEffect, useRef } from "react";
import { useLocation, useNavigationType } from "react-router";

const patience = 1500; // ms, until a page that is being read is as tall as it was

/** Lets a page that is come back to stand where it was left, and a new one
 * begin at its top. */
export function ScrollKeeper() {
  const { key, pathname } = useLocation();
  const way = useNavigationType();
  const before = useRef(pathname);
  const shown = useRef(key); // the entry whose page is drawn: listeners of the one before live a moment longer
  const coming = useRef(false); // it is on its way to where it was
  useEffect(() => {
    window.history.scrollRestoration = "manual";
    const keep = () => {
      if (!coming.current && shown.current === key) {
        sessionStorage.setItem(`vexillum-place ${key}`, String(window.scrollY));
      }
    };
    window.addEventListener("scrollend", keep);
    window.addEventListener("pagehide", keep);
    document.addEventListener("click", keep, true); // before a link is followed
    return () => {
      window.removeEventListener("scrollend", keep);
      window.removeEventListener("pagehide", keep);
      document.removeEventListener("click", keep, true);
    };
  }, [key]);
  useLayoutEffect(() => {
    shown.current = key;
    const moved = before.current !== pathname;
    before.current = pathname;
    if (way !== "POP") {
      if (moved) {
        window.scrollTo(0, 0);
      }
      return;
    }
    const y = Number(sessionStorage.getItem(`vexillum-place ${key}`) ?? 0);
    const until = Date.now() + patience;
    let again = 0;
    const go = () => {
      window.scrollTo(0, y);
      if (Math.abs(window.scrollY - y) > 2 && Date.now() < until) {
        again = requestAnimationFrame(go);
      } else {
        coming.current = false;
      }
    };
    coming.current = true;
    go();
    const enough = () => {
      coming.current = false;
      cancelAnimationFrame(again);
    };
    window.addEventListener("wheel", enough, { passive: true });
    window.addEventListener("touchstart", enough, { passive: true });
    return () => {
      enough();
      window.removeEventListener("wheel", enough);
      window.removeEventListener("touchstart", enough);
    };
  }, [key]); // once for each entry of the history
  return null;
}
