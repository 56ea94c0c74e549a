import { useQueryClient } from "@tanstack/react-query";
import {
  FilePlus,
  Flag,
  KeyRound,
  ListOrdered,
  type LucideIcon,
  Server,
  SlidersHorizontal,
  TriangleAlert,
  UserRound,
} from "lucide-react";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { Link, NavLink, useNavigate } from "react-router";
import { isArtist, isWrangler, type Me, setsUp, signOut } from "../api/client";
import { useLive, useServices } from "../api/live";
import { Choice } from "./Choice";
import { Help } from "./Help";
import { Mark } from "./Mark";
import { chooseTheme, chosenTheme, type Theme } from "./theme";
import { clock, useNow, zone } from "./time";

interface Page {
  key: string; // that leads there after g
  to: string;
  name: string;
  sign: LucideIcon;
  may?: (me: Me) => boolean; // whom it is for; everybody when left out
}

const pages: Page[] = [
  { key: "w", to: "/", name: "Watch", sign: Flag },
  { key: "q", to: "/queue", name: "Queue", sign: ListOrdered },
  { key: "u", to: "/submit", name: "Submit", sign: FilePlus, may: isArtist },
  { key: "n", to: "/nodes", name: "Nodes", sign: Server },
  { key: "t", to: "/trouble", name: "Trouble", sign: TriangleAlert },
  { key: "e", to: "/keys", name: "Enrol", sign: KeyRound, may: isWrangler },
  { key: "s", to: "/setup", name: "Setup", sign: SlidersHorizontal, may: setsUp },
];

/** The pages that are for somebody. */
export const pagesFor = (me: Me) => pages.filter((p) => !p.may || p.may(me));

const item =
  "flex min-h-[44px] min-w-[44px] flex-col items-center justify-center gap-1 border-l-2 px-1 py-1 text-[11px] leading-[14px] hover:text-base-content";

/** What stands around every page: the rail, the band that tells when the page
 * is stale, and the keys that work everywhere. */
export function Frame({ me, children }: { me: Me; children: ReactNode }) {
  const [help, setHelp] = useState(false);
  const shown = pagesFor(me);
  useKeys(me, () => setHelp(true));
  return (
    <div className="grid min-h-screen grid-cols-[minmax(0,1fr)] grid-rows-[1fr_auto] sm:grid-cols-[76px_minmax(0,1fr)] sm:grid-rows-1">
      <nav
        aria-label="Pages"
        className="order-2 flex border-hair bg-base-100 max-sm:sticky max-sm:bottom-0 max-sm:z-40 max-sm:justify-around max-sm:border-t sm:order-none sm:sticky sm:top-0 sm:h-screen sm:flex-col sm:border-r sm:py-3"
      >
        <NavLink to="/" className="mb-2 self-center max-sm:hidden" aria-label="Vexillum, to the Watch page">
          <Mark className="h-10 w-[34px]" />
        </NavLink>
        {shown.map(({ to, name, sign: Sign }) => (
          <NavLink
            key={to}
            to={to}
            end={to === "/"}
            className={({ isActive }) =>
              `${item} ${isActive ? "border-oxblood bg-base-200" : "border-transparent text-muted"}`
            }
          >
            <Sign size={16} aria-hidden="true" />
            {name}
          </NavLink>
        ))}
        <span className="grow max-sm:hidden" />
        <button
          type="button"
          className={`${item} border-transparent text-muted max-sm:hidden`}
          onClick={() => setHelp(true)}
          aria-label="Keys"
        >
          <kbd className="num text-sm leading-4">?</kbd>
          Keys
        </button>
        <Person me={me} />
      </nav>
      <div className="flex min-w-0 flex-col">
        <StaleBand />
        <div className="min-w-0 grow">{children}</div>
        <footer className="px-4 pb-3 text-[11px] text-muted sm:px-6">All times are in {zone()}.</footer>
      </div>
      {help && <Help me={me} onClose={() => setHelp(false)} />}
    </div>
  );
}

/** Who is signed in, and what is theirs alone: the theme, and signing out. */
function Person({ me }: { me: Me }) {
  const [open, setOpen] = useState(false);
  const [theme, setTheme] = useState(chosenTheme());
  const box = useRef<HTMLDivElement>(null);
  const queries = useQueryClient();
  useEffect(() => {
    if (!open) {
      return;
    }
    const away = (event: Event) => {
      if (
        event instanceof KeyboardEvent
          ? event.key === "Escape"
          : !box.current?.contains(event.target as globalThis.Node)
      ) {
        setOpen(false);
      }
    };
    window.addEventListener("pointerdown", away);
    window.addEventListener("keydown", away);
    return () => {
      window.removeEventListener("pointerdown", away);
      window.removeEventListener("keydown", away);
    };
  }, [open]);
  const leave = async () => {
    await signOut().catch(() => {});
    queries.clear();
    window.location.assign("/");
  };
  return (
    <div ref={box} className="relative flex">
      <button
        type="button"
        className={`${item} w-full border-transparent text-muted`}
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        title={`Signed in as ${me.name}, ${me.role}`}
      >
        <UserRound size={16} aria-hidden="true" />
        <span className="w-full max-w-[64px] truncate text-center">{me.name}</span>
      </button>
      {open && (
        <div
          role="group"
          aria-label="You"
          className="absolute right-0 bottom-full z-50 mb-1 w-60 rounded border border-hair bg-base-200 p-3 sm:bottom-0 sm:left-full sm:ml-2"
        >
          <p className="break-words">
            <b>{me.name}</b> <span className="text-muted">{me.role}</span>
          </p>
          <p className="mt-3 mb-1 text-xs text-muted">Theme</p>
          <Choice
            label="Theme"
            options={["system", "night", "day"]}
            chosen={theme}
            onChoose={(name) => {
              chooseTheme(name as Theme);
              setTheme(name as Theme);
            }}
          />
          <Link to="/notices" className="btn mt-3 w-full btn-sm" onClick={() => setOpen(false)}>
            Notices
          </Link>
          <button type="button" className="btn mt-2 w-full btn-sm" onClick={() => void leave()}>
            Sign out
          </button>
        </div>
      )}
    </div>
  );
}

/** Whether a key is for a field and not for the page. */
const writes = (target: EventTarget | null) =>
  target instanceof HTMLElement && (/^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) || target.isContentEditable);

/** The keys that work on every page: g and a letter, / for the search, j and k
 * for rows, ? for the list. */
function useKeys(me: Me, onHelp: () => void) {
  const navigate = useNavigate();
  const go = useRef(navigate);
  go.current = navigate;
  const help = useRef(onHelp);
  help.current = onHelp;
  useEffect(() => {
    let leader = 0;
    const onKey = (event: KeyboardEvent) => {
      if (
        event.ctrlKey ||
        event.metaKey ||
        event.altKey ||
        writes(event.target) ||
        document.querySelector("dialog[open]")
      ) {
        return;
      }
      const led = Date.now() - leader < 1000 && pagesFor(me).find((p) => p.key === event.key);
      leader = event.key === "g" ? Date.now() : 0;
      if (led) {
        void go.current(led.to);
      } else if (event.key === "?") {
        help.current();
      } else if (event.key === "/") {
        const field = document.querySelector<HTMLInputElement>("[data-search]");
        if (field) {
          event.preventDefault();
          field.focus();
          field.select();
        }
      } else if (event.key === "j" || event.key === "k") {
        const rows = [...document.querySelectorAll<HTMLElement>("[data-row]")];
        const at = rows.indexOf(document.activeElement as HTMLElement);
        rows[Math.min(event.key === "j" ? at + 1 : Math.max(0, at - 1), rows.length - 1)]?.focus();
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [me]);
}

/** Tells since when the page is not live, and when another service has taken
 * over. */
function StaleBand() {
  const { lostAt, heardAt, news, seen } = useLive();
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
        <span>
          The line to the service is lost. This page is as it was at {clock(new Date(heardAt).toISOString(), now)}; it
          catches up by itself.
        </span>
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
          {news.name} keeps the farm going since {clock(news.since, now)}: {news.why}. Nothing that was acknowledged is
          lost.
        </span>
        <button type="button" className="btn btn-ghost btn-sm" onClick={seen}>
          Noted
        </button>
      </div>
    );
  }
  return null;
}
