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
  const tell = useToast();
  const done = () => {
    if (text !== null && text.trim() !== written) {
      try {
        onKeep(countIn(text));
      } catch (error) {
        tell({ text: (error as Error).message, bad: true });
        return; // what was typed stays, to be corrected
      }
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
      onKeyDown={(event) => {
        if (event.key === "Enter") done();
        if (event.key === "Escape") setText(null);
      }}
    />
  );
}

/** The number that is written, 0 where nothing is: 1500, 1,500, 1 500 and 1500.5 are read; 1,5 could be
 * meant in two ways and is refused. */
export function numberIn(text: string): number {
  const written = text.trim().replace(/[\u00a0\u202f ](?=\d{3}(?!\d))/g, "");
  const plain = /^\d{1,3}(,\d{3})+(\.\d+)?$/.test(written) ? written.replaceAll(",", "") : written;
  if (plain !== "" && !/^-?\d+(\.\d+)?$/.test(plain)) {
    throw new Error(`“${text}” is not a number; write it like 1500 or 1500.5.`);
  }
  return Number(plain);
}

/** The whole number that is written, 0 or more; null where nothing is. */
export function countIn(text: string): number | null {
  if (text.trim() === "") {
    return null;
  }
  const n = numberIn(text);
  if (!Number.isInteger(n) || n < 0) {
    throw new Error(`“${text}” is not a count; write a whole number, 0 or more.`);
  }
  return n;
}

/** Changes a setting, reads the list again, and reports the result. undo gets what act returned, and
 * restores only what act changed. */
export function useKeep(what: string) {
  const queries = useQueryClient();
  const tell = useToast();
  // strand: all the same, although open runs use what is taken away
  const keep = async <T,>(
    act: (strand?: boolean) => Promise<T>,
    text: string,
    undo?: (made: T) => Promise<unknown>,
    strand = false,
  ): Promise<boolean> => {
    try {
      const made = await act(strand);
      await queries.invalidateQueries({ queryKey: [what] });
      tell({ text, undo: undo && (() => void keep(() => undo(made), "Undone.")) });
      return true;
    } catch (error) {
      const offer =
        error instanceof Problem && error.field === "strand" && !strand
          ? { label: "Do it all the same", act: () => void keep(act, text, undo, true) }
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
  onKeep: (text: string) => unknown; // false: it was refused
}) {
  const [text, setText] = useState<string | null>(null);
  const done = async () => {
    if (text !== null && text.trim() !== value && (await onKeep(text.trim())) === false) {
      return; // it was refused: what was typed stays, to be corrected
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
      onBlur={() => void done()}
      onKeyDown={(event) => {
        if (event.key === "Enter") void done();
        if (event.key === "Escape") setText(null);
      }}
    />
  );
}
