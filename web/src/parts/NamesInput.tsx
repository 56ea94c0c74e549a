import { useId } from "react";

interface Props {
  field: string;
  value: string;
  of: string[]; // the names to choose from
  placeholder: string;
  onChange: (value: string) => void;
}

/** The most suggestions at once; another letter narrows them down. */
const mostOffered = 50;

/** A comma-separated list of names, with suggestions for the one being typed. */
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

/** The lists to suggest: the names before the last comma, then a further one that contains what is typed. */
export function offered(value: string, of: string[]): string[] {
  const before = value.slice(0, value.lastIndexOf(",") + 1);
  const typed = value.slice(before.length).trim().toLowerCase();
  const taken = new Set(before.split(",").map((n) => n.trim()));
  return of
    .filter((name) => !taken.has(name) && name.toLowerCase().includes(typed))
    .slice(0, mostOffered)
    .map((name) => (before ? `${before} ${name}` : name));
}
