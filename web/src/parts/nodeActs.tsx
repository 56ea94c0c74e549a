import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useRef, useState } from "react";
import { actOnNodes, changeNodes, type NodeAct, type NodeChange, type NodesActed, undoNodes } from "../api/client";
import { Confirm } from "./Confirm";
import { told } from "./time";
import { useToast } from "./toast";

export type Doing = "hold" | "drain" | "release" | "sideline" | "give-back" | "restart" | "retire" | "revoke";

/** What can be done with nodes, as the buttons call it. */
export const doings: { what: Doing; name: string; danger?: boolean }[] = [
  { what: "hold", name: "Hold" },
  { what: "drain", name: "Drain" },
  { what: "release", name: "Release" },
  { what: "sideline", name: "Sideline" },
  { what: "give-back", name: "Give back" },
  { what: "restart", name: "Restart node process" },
  { what: "revoke", name: "Revoke token", danger: true },
  { what: "retire", name: "Retire", danger: true },
];

const reasoned: Doing[] = ["hold", "drain", "sideline", "give-back", "retire"];

interface Asked {
  name: string;
  danger?: boolean;
  preview: NodesActed;
  reason?: string; // why, where one may be given
  go: (reason?: string) => Promise<NodesActed>;
}

/** Asks the service what an act on nodes would do, shows it, and does it after
 * a yes. dialog is to be put on the page. */
export function useNodeActs(): {
  act: (what: Doing, nodes: number[]) => void;
  change: (change: NodeChange, name: string) => void;
  dialog: ReactNode;
} {
  const [asked, setAsked] = useState<Asked | null>(null);
  const tell = useToast();
  const queries = useQueryClient();

  const fail = (error: unknown) => tell({ text: (error as Error).message, bad: true });
  const go = async (a: Asked) => {
    const done = await a.go(a.reason?.trim());
    await queries.invalidateQueries({ queryKey: ["node"] });
    const undo = done.undo;
    const takeBack = () =>
      undoNodes(undo ?? "")
        .then((back) => tell({ text: `${told(back.sentence)}.` }))
        .catch(fail);
    tell({ text: `${told(done.sentence)}.`, undo: undo ? () => void takeBack() : undefined });
  };
  const ask = async (
    name: string,
    danger: boolean | undefined,
    run: (dry: boolean, reason?: string) => Promise<NodesActed>,
    reason?: string,
  ) => {
    try {
      const preview = await run(true);
      if (!preview.effects.some((e) => e.changes)) {
        tell({
          text:
            preview.effects.length === 1
              ? `${preview.effects[0].name} ${told(preview.effects[0].sentence)}.`
              : `${preview.sentence}.`,
        });
        return;
      }
      setAsked({ name, danger, preview, reason, go: (why) => run(false, why) });
    } catch (error) {
      fail(error);
    }
  };
  const act = (what: Doing, nodes: number[]) => {
    const { name, danger } = doings.find((d) => d.what === what)!;
    const body: NodeAct = { do: what, nodes };
    void ask(
      name,
      danger,
      (dry, reason) => actOnNodes({ ...body, dry_run: dry, ...(reason && { reason }) }),
      reasoned.includes(what) ? "" : undefined,
    );
  };
  const change = (body: NodeChange, name: string) =>
    void ask(name, false, (dry) => changeNodes({ ...body, dry_run: dry }));
  const doIt = useRef({ act, change });
  doIt.current = { act, change };
  const [steady] = useState(() => ({
    act: (what: Doing, nodes: number[]) => doIt.current.act(what, nodes),
    change: (body: NodeChange, name: string) => doIt.current.change(body, name),
  }));

  const dialog = asked && (
    <Confirm
      title={`${asked.preview.sentence}.`}
      yes={asked.name}
      danger={asked.danger}
      onYes={() => go(asked)}
      onNo={() => setAsked(null)}
    >
      <ul className="max-h-[40vh] overflow-y-auto">
        {asked.preview.effects.map((e) => (
          <li key={e.node} className="grid grid-cols-[110px_minmax(0,1fr)] gap-3 border-b border-hair py-1 text-[13px]">
            <b className="truncate font-semibold text-base-content" title={e.name}>
              {e.name}
            </b>
            <span className="break-words">{told(e.sentence)}</span>
          </li>
        ))}
      </ul>
      {asked.reason !== undefined && (
        <label className="mt-3 block text-xs">
          why, for those who look (may stay empty)
          <input
            className="input mt-[2px] w-full input-sm"
            maxLength={200}
            value={asked.reason}
            onChange={(event) => setAsked({ ...asked, reason: event.target.value })}
          />
        </label>
      )}
    </Confirm>
  );
  return { ...steady, dialog };
}
