import { useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { actOnNodes, changeNodes, type NodeAct, type NodeChange, type NodesActed } from "../api/client";
import { Confirm } from "./Confirm";
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

interface Asked {
  name: string;
  danger?: boolean;
  preview: NodesActed;
  go: () => Promise<NodesActed>;
  undo?: () => void;
}

/** Asks the service what an act on nodes would do, shows it, and does it after
 * a yes. dialog is to be put on the page. */
export function useNodeActs(): { act: (what: Doing, nodes: number[]) => void; change: (change: NodeChange, name: string) => void; dialog: ReactNode } {
  const [asked, setAsked] = useState<Asked | null>(null);
  const tell = useToast();
  const queries = useQueryClient();

  const fail = (error: unknown) => tell({ text: (error as Error).message, bad: true });
  const go = async (a: Asked) => {
    try {
      const done = await a.go();
      await queries.invalidateQueries({ queryKey: ["node"] });
      tell({ text: `${done.sentence}.`, undo: a.undo });
    } catch (error) {
      fail(error);
    }
  };
  const ask = async (name: string, danger: boolean | undefined, run: (dry: boolean) => Promise<NodesActed>, undo?: () => void) => {
    try {
      const preview = await run(true);
      if (!preview.effects.some((e) => e.changes)) {
        tell({ text: preview.effects.length === 1 ? `${preview.effects[0].name} ${preview.effects[0].sentence}.` : `${preview.sentence}.` });
        return;
      }
      setAsked({ name, danger, preview, go: () => run(false), undo });
    } catch (error) {
      fail(error);
    }
  };
  const act = (what: Doing, nodes: number[]) => {
    const { name, danger } = doings.find((d) => d.what === what)!;
    const body: NodeAct = { do: what, nodes };
    const undo = what === "hold" || what === "drain" || what === "sideline" || what === "give-back" ? () => void actOnNodes({ do: "release", nodes }).catch(fail) : undefined;
    void ask(name, danger, (dry) => actOnNodes({ ...body, dry_run: dry }), undo);
  };
  const change = (body: NodeChange, name: string) => void ask(name, false, (dry) => changeNodes({ ...body, dry_run: dry }));

  const dialog = asked && (
    <Confirm title={`${asked.preview.sentence}.`} yes={asked.name} danger={asked.danger} onYes={() => void go(asked)} onNo={() => setAsked(null)}>
      <ul className="max-h-[40vh] overflow-y-auto">
        {asked.preview.effects.map((e) => (
          <li key={e.node} className="grid grid-cols-[110px_1fr] gap-3 border-b border-hair py-1 text-[13px]">
            <b className="truncate font-semibold text-base-content">{e.name}</b>
            <span>{e.sentence}</span>
          </li>
        ))}
      </ul>
    </Confirm>
  );
  return { act, change, dialog };
}
