import { useMemo, useState } from "react";
import { Link } from "react-router";
import type { NeedHand, Run } from "../../api/client";
import { useStill, Waiting } from "../../parts/still";
import { told } from "../../parts/time";
import { HandCard } from "./HandCard";
import { Sign } from "./HandSign";

interface Props {
  hands: NeedHand[];
  runs: Run[];
  may: (run: Run) => boolean;
  wrangler: boolean;
}

/** Hands of one kind: those shown, and those that are only counted. */
interface Group {
  kind: string;
  hands: NeedHand[];
}

const keyOf = (h: NeedHand) =>
  `${h.kind} ${h.run ?? ""} ${h.node ?? ""} ${h.subject?.kind ?? ""} ${h.subject?.name ?? ""}`;

// What needs a hand never pushes what renders off the page: there are so many
// lines at first, one a kind where there are more.
const mostLines = 4;

/** Groups shown at first on a phone, where nothing scrolls inside the page. */
const firstOnPhone = 3;

const kinds: Record<string, [string, string]> = {
  failed: ["run has failed", "runs have failed"],
  parked: ["run has parked frames", "runs have parked frames"],
  failing: ["run is held because its frames fail", "runs are held because their frames fail"],
  nobody: ["run can be taken by no node", "runs can be taken by no node"],
  waiting: ["place, licence or renderer is waited for", "places, licences or renderers are waited for"],
  device: ["graphics device is set aside", "graphics devices are set aside"],
  sidelined: ["node is sidelined", "nodes are sidelined"],
  silent: ["node is silent", "nodes are silent"],
  full: ["node has no room for further frames", "nodes have no room for further frames"],
  delivery: ["place cannot be delivered into", "places cannot be delivered into"],
  place: ["place is away", "places are away"],
  budget: ["project has used most of its budget", "projects have used most of their budgets"],
  spent: ["project has used up its budget", "projects have used up their budgets"],
  held: ["hold of a place, pool or recipe", "holds of places, pools and recipes"],
  scouts: ["run waits for a yes", "runs wait for a yes"],
  preflight: ["run would fail on some nodes", "runs would fail on some nodes"],
  "at risk": ["run is at risk", "runs are at risk"],
  changed: ["run is held because its scene has changed", "runs are held because their scenes have changed"],
  step: [
    "run is held because what it waits for does not come",
    "runs are held because what they wait for does not come",
  ],
};

/** From so many on the service may not list all of a kind. */
const manyOf = 100;

const words = (kind: string, n: number) =>
  `${n >= manyOf ? `${manyOf} or more` : n} ${(kinds[kind] ?? ["item", "items"])[n === 1 ? 0 : 1]}`;

/** What wants a person: one sentence, the evidence, one button. Where it is
 * much, kinds are told in one line each, and open up. */
export function Hands({ hands, ...rest }: Props) {
  const due = useMemo(() => hands.filter((h) => h.snoozed_until === null), [hands]);
  const off = hands.length - due.length;
  const [all, setAll] = useState(false);
  const { shown, waiting } = useStill(all ? hands : due, keyOf);
  const [more, setMore] = useState(false);
  const [open, setOpen] = useState<ReadonlySet<string>>(new Set());
  const groups = useMemo(() => {
    const byKind = Map.groupBy(shown, (h) => h.kind);
    return [...byKind].map(([kind, all]): Group => ({ kind, hands: all }));
  }, [shown]);
  if (shown.length === 0 && off === 0) {
    return null;
  }
  const grouped = shown.length > mostLines;
  const toggle = (kind: string) =>
    setOpen((old) => {
      const next = new Set(old);
      if (!next.delete(kind)) {
        next.add(kind);
      }
      return next;
    });
  return (
    <section aria-label="Needs a hand">
      <h2 className="section">
        <b>Needs a hand</b> {shown.length} <Waiting count={waiting} />
        <Link to="/hands" className="ml-auto font-normal hover:underline">
          History
        </Link>
      </h2>
      <div
        className={grouped ? "sm:max-h-[46vh] sm:overflow-y-auto" : ""}
        tabIndex={grouped ? 0 : undefined}
        role={grouped ? "region" : undefined}
        aria-label={grouped ? "What needs a hand" : undefined}
      >
        {groups.map((g, i) => (
          <div key={g.kind} className={grouped && !more && i >= firstOnPhone ? "max-sm:hidden" : ""}>
            {!grouped || g.hands.length === 1 ? (
              g.hands.map((h) => <HandCard key={keyOf(h)} hand={h} {...rest} />)
            ) : (
              <Kind of={g} open={open.has(g.kind)} onToggle={() => toggle(g.kind)} {...rest} />
            )}
          </div>
        ))}
      </div>
      {grouped && !more && groups.length > firstOnPhone && (
        <button type="button" className="btn w-full btn-sm sm:hidden" onClick={() => setMore(true)}>
          Show {groups.length - firstOnPhone} more
        </button>
      )}
      {off > 0 && (
        <button type="button" className="btn btn-ghost btn-xs" aria-expanded={all} onClick={() => setAll(!all)}>
          {all ? `Hide the ${off} put off` : `${off} put off`}
        </button>
      )}
    </section>
  );
}

/** Hands of one kind in one line, which opens up. */
function Kind({
  of,
  open,
  onToggle,
  ...rest
}: Omit<Props, "hands"> & { of: Group; open: boolean; onToggle: () => void }) {
  return (
    <>
      <div
        data-still
        className="mb-[3px] flex items-center gap-3 border-l-[3px] border-oxblood bg-base-200 px-3 py-[6px]"
      >
        <Sign kind={of.kind} />
        <span className="min-w-0 flex-1">
          {words(of.kind, of.hands.length)}
          <span className="block truncate text-[12.5px] leading-[17px] text-muted">{told(of.hands[0].sentence)} …</span>
        </span>
        <button type="button" data-row className="btn btn-sm" aria-expanded={open} onClick={onToggle}>
          {open ? "Fold" : "Show them"}
        </button>
      </div>
      {open && (
        <div className="pl-5">
          {of.hands.map((h) => (
            <HandCard key={keyOf(h)} hand={h} {...rest} />
          ))}
        </div>
      )}
    </>
  );
}
