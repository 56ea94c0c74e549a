import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Problem } from "../../api/client";
import { sentence } from "../../parts/time";
import { useToast } from "../../parts/toast";

/** A number that may be none; kept with Enter or when it is left. */
export function Count({
  value,
  none,
  label,
  onKeep,
}: {
  value: number | null;
  none: string;
  label: string;
  onKeep: (n: number | null) => void;
}) {
  const written = value === null ? "" : String(value);
  const [text, setText] = useState<string | null>(null);
  const done = () => {
    if (text !== null && text !== written && /^\d*$/.test(text)) {
      onKeep(text === "" ? null : Number(text));
    }
    setText(null);
  };
  return (
    <input
      className="input num w-36 input-xs"
      inputMode="numeric"
      aria-label={label}
      placeholder={none}
      value={text ?? written}
      onChange={(event) => setText(event.target.value)}
      onBlur={done}
      onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
    />
  );
}

/** The number that is written, 0 where nothing is. */
export function numberIn(text: string): number {
  const n = Number(text.trim().replace(",", "."));
  if (!Number.isFinite(n)) {
    throw new Error(`“${text}” is not a number.`);
  }
  return n;
}

/** Changes something of the farm, reads the list anew, and tells what came of it. */
export function useKeep(what: string) {
  const queries = useQueryClient();
  const tell = useToast();
  // strand: all the same, although open runs use what is taken away
  const keep = async (act: (strand?: boolean) => Promise<unknown>, text: string, strand = false): Promise<boolean> => {
    try {
      await act(strand);
      await queries.invalidateQueries({ queryKey: [what] });
      tell({ text });
      return true;
    } catch (error) {
      const offer =
        error instanceof Problem && error.field === "strand" && !strand
          ? { label: "Do it all the same", act: () => void keep(act, text, true) }
          : undefined;
      tell({
        text: sentence((error as Error).message).replace(/; to do it all the same, say so with --yes/, ""),
        bad: true,
        offer,
      });
      return false;
    }
  };
  return keep;
}

/** Makes something that is there once it has a name. */
export function ByName({
  what,
  button,
  disabled,
  onMake,
}: {
  what: string; // such as a pool
  button: string;
  disabled?: boolean;
  onMake: (name: string) => Promise<boolean>;
}) {
  const [name, setName] = useState("");
  const make = async (event: FormEvent) => {
    event.preventDefault();
    if (await onMake(name.trim())) {
      setName("");
    }
  };
  return (
    <form onSubmit={(event) => void make(event)} className="mt-2 flex gap-2">
      <input
        className="input w-44 input-xs"
        aria-label={`Name of ${what}`}
        placeholder={`name of ${what}`}
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <button type="submit" className="btn btn-xs" disabled={disabled || name.trim() === ""}>
        {button}
      </button>
    </form>
  );
}

/** A text that is kept with Enter or when it is left. */
export function Written({
  value,
  placeholder,
  label,
  className = "w-full",
  onKeep,
}: {
  value: string;
  placeholder?: string;
  label: string;
  className?: string;
  onKeep: (text: string) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const done = () => {
    if (text !== null && text.trim() !== value) {
      onKeep(text.trim());
    }
    setText(null);
  };
  return (
    <input
      className={`input input-xs ${className}`}
      aria-label={label}
      placeholder={placeholder}
      value={text ?? value}
      onChange={(event) => setText(event.target.value)}
      onBlur={done}
      onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
    />
  );
}
