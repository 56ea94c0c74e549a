import { useQueryClient } from "@tanstack/react-query";
import { Flag, KeyRound, LogOut, Moon, Server, SlidersHorizontal, Sun, SunMoon } from "lucide-react";
import { useEffect, useState, type ReactNode } from "react";
import { NavLink, useNavigate } from "react-router";
import { isWrangler, signOut, type Me } from "../api/client";
import { useLive, useServices } from "../api/live";
import { Help } from "./Help";
import { Mark } from "./Mark";
import { applyTheme, chosenTheme, type Theme } from "./theme";
import { clock, useNow } from "./time";

const next: Record<Theme, Theme> = { system: "night", night: "day", day: "system" };

/** What stands around every page: the rail, the band that tells when the page
 * is stale, and the keys that work everywhere. */
export function Frame({ me, children }: { me: Me; children: ReactNode }) {
  const [theme, setTheme] = useState(chosenTheme());
  const [help, setHelp] = useState(false);
  const queries = useQueryClient();
  const navigate = useNavigate();

  useEffect(() => {
    let leader = 0;
    const onKey = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (event.ctrlKey || event.metaKey || event.altKey || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) {
        return;
      }
      if (event.key === "?") {
        setHelp(true);
      } else if (event.key === "g") {
        leader = Date.now();
      } else if (event.key === "w" && Date.now() - leader < 1000) {
        navigate("/");
      } else if (event.key === "n" && Date.now() - leader < 1000) {
        navigate("/nodes");
      } else if (event.key === "s" && Date.now() - leader < 1000) {
        navigate("/setup");
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [navigate]);

  const changeTheme = () => {
    applyTheme(next[theme]);
    setTheme(next[theme]);
  };
  const leave = async () => {
    await signOut().catch(() => {});
    queries.clear();
    window.location.assign("/");
  };
  const ThemeSign = { system: SunMoon, night: Moon, day: Sun }[theme];
  const item = "flex flex-col items-center gap-1 border-l-2 px-1 py-2 text-[11px] leading-[14px] hover:text-base-content";
  return (
    <div className="grid min-h-screen grid-rows-[1fr_auto] sm:grid-cols-[76px_1fr] sm:grid-rows-1">
      <nav aria-label="Pages" className="order-2 flex border-hair bg-base-100 max-sm:sticky max-sm:bottom-0 max-sm:justify-around max-sm:border-t sm:order-none sm:sticky sm:top-0 sm:h-screen sm:flex-col sm:border-r sm:py-3">
        <NavLink to="/" className="mb-2 self-center max-sm:hidden" aria-label="Vexillum, to the Watch page">
          <Mark className="h-10 w-[34px]" />
        </NavLink>
        <NavLink to="/" end className={({ isActive }) => `${item} ${isActive ? "border-oxblood bg-base-200" : "border-transparent text-muted"}`}>
          <Flag size={16} aria-hidden="true" />
          Watch
        </NavLink>
        <NavLink to="/nodes" className={({ isActive }) => `${item} ${isActive ? "border-oxblood bg-base-200" : "border-transparent text-muted"}`}>
          <Server size={16} aria-hidden="true" />
          Nodes
        </NavLink>
        {isWrangler(me) && (
          <NavLink to="/keys" className={({ isActive }) => `${item} ${isActive ? "border-oxblood bg-base-200" : "border-transparent text-muted"}`}>
            <KeyRound size={16} aria-hidden="true" />
            Enrol
          </NavLink>
        )}
        {isWrangler(me) && (
          <NavLink to="/setup" className={({ isActive }) => `${item} ${isActive ? "border-oxblood bg-base-200" : "border-transparent text-muted"}`}>
            <SlidersHorizontal size={16} aria-hidden="true" />
            Setup
          </NavLink>
        )}
        <span className="grow max-sm:hidden" />
        <button className={`${item} border-transparent text-muted`} onClick={() => setHelp(true)} aria-label="Keys">
          <kbd className="num text-sm leading-4">?</kbd>
          Keys
        </button>
        <button className={`${item} border-transparent text-muted`} onClick={changeTheme} aria-label={`Theme: ${theme}. Change it.`}>
          <ThemeSign size={16} aria-hidden="true" />
          {theme === "system" ? "System" : theme === "night" ? "Night" : "Day"}
        </button>
        <button className={`${item} border-transparent text-muted`} onClick={() => void leave()} title={`Signed in as ${me.name} (${me.role})`}>
          <LogOut size={16} aria-hidden="true" />
          {me.name}
        </button>
      </nav>
      <div className="min-w-0">
        <StaleBand />
        {children}
      </div>
      {help && <Help onClose={() => setHelp(false)} />}
    </div>
  );
}

/** Tells since when the page is not live, and when another service has taken
 * over. */
function StaleBand() {
  const { lostAt, news, seen } = useLive();
  const services = useServices();
  const now = useNow();
  const band = "sticky top-0 z-40 flex flex-wrap items-center gap-x-2 border-b bg-base-300 px-6 py-2";
  if (lostAt !== null && now - lostAt >= 500) {
    const others = (services.data ?? []).filter((s) => new URL(s.address).host !== window.location.host);
    return (
      <div role="alert" className={`${band} border-held`}>
        <span aria-hidden="true" className="text-held">
          ‖
        </span>
        <span>The line to the service is lost. This page is as it was at {clock(new Date(lostAt).toISOString(), now)}; it catches up by itself.</span>
        {others.length > 0 && <span>Other services of this farm:</span>}
        {others.map((s) => (
          <a key={s.name} className="link" href={s.address + window.location.pathname}>
            {s.name}
          </a>
        ))}
      </div>
    );
  }
  if (news) {
    return (
      <div role="status" className={`${band} border-done`}>
        <span aria-hidden="true" className="text-done">
          ✓
        </span>
        <span className="grow">
          {news.name} keeps the farm going since {clock(news.since, now)}: {news.why}. Nothing that was acknowledged is lost.
        </span>
        <button className="btn btn-ghost btn-sm" onClick={seen}>
          Noted
        </button>
      </div>
    );
  }
  return null;
}
