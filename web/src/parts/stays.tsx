import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { getStays, type Stay, setStay } from "../api/client";
import { Confirm } from "./Confirm";
import { sentence } from "./time";
import { useToast } from "./toast";

/** Places, recipes and pools that are held as a whole, and how to hold and
 * release them. What a hold means is said first. dialog is to be put on the
 * page. */
export function useStays(): {
  stays: Stay[];
  hold: (kind: Stay["kind"], name: string) => void;
  release: (kind: Stay["kind"], name: string) => void;
  dialog: ReactNode;
} {
  const queries = useQueryClient();
  const tell = useToast();
  const stays = useQuery({ queryKey: ["stays"], queryFn: getStays, refetchInterval: 5000 });
  const [asked, setAsked] = useState<{ stay: Stay; sentence: string } | null>(null);
  const fail = (error: unknown) => tell({ text: (error as Error).message, bad: true });
  const go = async (stay: Stay) => {
    try {
      const done = await setStay(stay);
      await queries.invalidateQueries({ queryKey: ["stays"] });
      tell({
        text: `${sentence(done.sentence)}.`,
        undo: done.changes ? () => void go({ kind: stay.kind, name: stay.name, held: !stay.held }) : undefined,
      });
    } catch (error) {
      fail(error);
    }
  };
  const hold = (kind: Stay["kind"], name: string) => {
    const stay = { kind, name, held: true };
    setStay({ ...stay, dry_run: true })
      .then((preview) => setAsked({ stay, sentence: preview.sentence }))
      .catch(fail);
  };
  const release = (kind: Stay["kind"], name: string) => void go({ kind, name, held: false });
  const dialog = asked && (
    <Confirm
      title={`Hold the ${asked.stay.kind} ${asked.stay.name}?`}
      yes="Hold it"
      onYes={() => void go(asked.stay)}
      onNo={() => setAsked(null)}
    >
      {sentence(asked.sentence)}.
    </Confirm>
  );
  return { stays: stays.data ?? [], hold, release, dialog };
}
