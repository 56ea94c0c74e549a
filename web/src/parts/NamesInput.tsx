import { useId } from "react";

interface Props {
  field: string;
  value: string;
  of: string[]; // that may be named
  placeholder: string;
  onChange: (value: string) => void;
}

/** Suggestions beyond these are not offered: more letters are typed. */
const mostOffered = 50;

/** A list of names with commas between them. The name that is being typed is completed from those
 * that there are. */
export function NamesInput({ field, value, of, placeholder, onChange }: Props) {
  const list = useId();
  return (
    <>
      <input
        className="num input input-sm w-full"
        name={field}
        list={list}
        autoComplete="off"
        placeholder={placeholder}
        value={value}
        onChange={(e) => onChange(e.target.value)}
      />
      <datalist id={list}>
        {offered(value, of).map((text) => (
          <option key={text} value={text} />
        ))}
      </datalist>
    </>
  );
}

/** What a list may be completed to: those before its last comma, and a name that has in it what stands
 * behind that and is not in the list yet. */
export function offered(value: string, of: string[]): string[] {
  const before = value.slice(0, value.lastIndexOf(",") + 1);
  const typed = value.slice(before.length).trim().toLowerCase();
  const taken = new Set(before.split(",").map((n) => n.trim()));
  return of
    .filter((name) => !taken.has(name) && name.toLowerCase().includes(typed))
    .slice(0, mostOffered)
    .map((name) => (before ? `${before} ${name}` : name));
}
