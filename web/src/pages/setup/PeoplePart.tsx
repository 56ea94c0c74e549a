import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { getPeople, type Person, ranks, removePerson, setPerson } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { clock, useNow } from "../../parts/time";
import { useKeep } from "./keep";
import { Columns, lookAgain, Part, useFound } from "./Part";

/** Who may sign in, and what they may do. */
export function PeoplePart() {
  const people = useQuery({ queryKey: ["people"], queryFn: getPeople, refetchInterval: lookAgain });
  const { shown, more } = useFound(people.data, (p) => [p.name, p.role]);
  const keep = useKeep("people");
  const now = useNow(60_000);
  const [name, setName] = useState("");
  const [role, setRole] = useState("artist");
  const [made, setMade] = useState<{ name: string; password: string } | null>(null);
  const [leaving, setLeaving] = useState<Person | null>(null);
  const add = (event: FormEvent) => {
    event.preventDefault();
    const person = name.trim();
    void keep(async () => {
      const done = await setPerson(person, { role });
      setMade(done.password ? { name: person, password: done.password } : null);
      setName("");
    }, `${person} may sign in.`);
  };
  const there = people.data?.some((p) => p.name === name.trim()) ?? false;
  return (
    <Part name="People" intro="who may sign in, and what they may do" error={people.error}>
      <Columns of={["name", "role", "since"]} className="sm:grid sm:grid-cols-[180px_150px_minmax(0,1fr)]" />
      <ul>
        {shown.map((p: Person) => (
          <li
            key={p.name}
            className="grid grid-cols-[minmax(0,1fr)_auto_auto] items-center gap-x-4 border-b border-hair py-2 sm:grid-cols-[180px_150px_minmax(0,1fr)_auto]"
          >
            <b className="truncate font-semibold" title={p.name}>
              {p.name}
            </b>
            <select
              className="select w-32 select-xs"
              aria-label={`Role of ${p.name}`}
              value={p.role}
              onChange={(e) =>
                void keep(
                  () => setPerson(p.name, { role: e.target.value }),
                  `${p.name}: ${e.target.value}.`,
                  () => setPerson(p.name, { role: p.role }),
                )
              }
            >
              {ranks.map((r) => (
                <option key={r}>{r}</option>
              ))}
            </select>
            <span className="text-xs text-muted max-sm:hidden">since {clock(p.created_at, now)}</span>
            <button type="button" className="btn btn-xs" onClick={() => setLeaving(p)}>
              Remove
            </button>
          </li>
        ))}
      </ul>
      {more}
      <form onSubmit={add} className="mt-2 flex flex-wrap gap-2">
        <input
          className="input w-44 input-xs"
          aria-label="Name of a person"
          placeholder="name of a person"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <select
          className="select w-28 select-xs"
          aria-label="Role of the new person"
          value={role}
          onChange={(e) => setRole(e.target.value)}
        >
          {ranks.map((r) => (
            <option key={r}>{r}</option>
          ))}
        </select>
        <button type="submit" className="btn btn-xs" disabled={name.trim() === "" || there}>
          Let in
        </button>
      </form>
      {made && (
        <p role="status" className="mt-2 border-l-2 border-brass bg-base-200 px-3 py-2 text-[13px]">
          The password of {made.name} is <b className="num select-all">{made.password}</b>. It is shown this once.
        </p>
      )}
      {leaving && (
        <Confirm
          title={`Remove ${leaving.name}`}
          yes="Remove"
          danger
          onYes={() => keep(() => removePerson(leaving.name), `${leaving.name} may not sign in any more.`)}
          onNo={() => setLeaving(null)}
        >
          All their sessions and tokens end within seconds. Their runs stay as they are.
        </Confirm>
      )}
    </Part>
  );
}
