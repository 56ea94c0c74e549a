import { type ReactNode, useState } from "react";
import { actOnHand, type HandAct, type NeedHand } from "../api/client";
import { Confirm } from "./Confirm";
import { clock } from "./time";
import { useToast } from "./toast";

type Act = Omit<HandAct, "hands">;

const undone: Partial<Record<HandAct["do"], HandAct["do"]>> = {
  take: "leave",
  leave: "take",
  snooze: "wake",
  resolve: "reopen",
};

const said: Record<HandAct["do"], string> = {
  take: "You see to it.",
  leave: "Nobody sees to it now.",
  snooze: "Put off",
  wake: "It is back on the list.",
  resolve: "Resolved.",
  reopen: "It is back on the list.",
};

/** What people do about what needs a hand, with what takes it back. dialog is to be put on
 * the page. */
export function useHandActs(hand: NeedHand): {
  act: (what: Act) => void;
  ask: (what: "snooze" | "resolve") => void;
  dialog: ReactNode;
} {
  const tell = useToast();
  const [asked, setAsked] = useState<"snooze" | "resolve" | null>(null);
  const send = async (what: Act) => {
    await actOnHand(hand.id, what);
    const back = undone[what.do];
    tell({
      text: what.until ? `${said[what.do]} until ${clock(what.until, Date.now())}.` : said[what.do],
      undo: back && (() => act({ do: back })),
    });
  };
  const act = (what: Act) => void send(what).catch((error: Error) => tell({ text: error.message, bad: true }));
  const close = () => setAsked(null);
  const dialog =
    asked === "snooze" ? (
      <SnoozeDialog onNo={close} onYes={(until) => send({ do: "snooze", until })} />
    ) : asked === "resolve" ? (
      <ResolveDialog onNo={close} onYes={(note) => send({ do: "resolve", note })} />
    ) : null;
  return { act, ask: setAsked, dialog };
}

/** A time as a field of the browser has it. */
function local(at: Date): string {
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

function SnoozeDialog({ onYes, onNo }: { onYes: (until: string) => Promise<unknown>; onNo: () => void }) {
  const hours = (n: number) => new Date(Date.now() + n * 3_600_000);
  const morning = () => {
    const at = new Date();
    at.setHours(8, 0, 0, 0);
    return at.getTime() > Date.now() ? at : new Date(at.getTime() + 24 * 3_600_000);
  };
  const [until, setUntil] = useState(local(hours(1)));
  const at = new Date(until);
  const fits = !Number.isNaN(at.getTime()) && at.getTime() > Date.now();
  return (
    <Confirm
      title="Put it off until when?"
      yes="Put it off"
      disabled={!fits}
      onYes={() => onYes(at.toISOString())}
      onNo={onNo}
    >
      <p>It goes to the end of the list until then, and nobody is told of it.</p>
      <p className="mt-3 flex flex-wrap gap-2">
        {(
          [
            ["1 hour", hours(1)],
            ["4 hours", hours(4)],
            ["08:00", morning()],
          ] as const
        ).map(([name, when]) => (
          <button key={name} type="button" className="btn btn-sm" onClick={() => setUntil(local(when))}>
            {name}
          </button>
        ))}
      </p>
      <label className="mt-3 block text-base-content">
        Until
        <input
          type="datetime-local"
          className="input input-sm mt-1 block"
          value={until}
          onChange={(e) => setUntil(e.target.value)}
        />
      </label>
    </Confirm>
  );
}

function ResolveDialog({ onYes, onNo }: { onYes: (note: string) => Promise<unknown>; onNo: () => void }) {
  const [note, setNote] = useState("");
  return (
    <Confirm title="Is nothing left to do about it?" yes="Resolve it" onYes={() => onYes(note)} onNo={onNo}>
      <p>It leaves the list, and comes again only if there is more of it or it happens anew.</p>
      <label className="mt-3 block text-base-content">
        Note, for those who look (may be empty)
        <input
          type="text"
          maxLength={400}
          className="input input-sm mt-1 block w-full"
          value={note}
          onChange={(e) => setNote(e.target.value)}
        />
      </label>
    </Confirm>
  );
}
