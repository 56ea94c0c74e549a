import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { type Project, setProject } from "../../api/client";
import { useKeep } from "./keep";

/** Who belongs to a project, and whether only they see it. */
export function Members({ project: p }: { project: Project }) {
  const queries = useQueryClient();
  const kept = useKeep("projects");
  const [name, setName] = useState("");
  const keep = async (body: Parameters<typeof setProject>[1], text: string) => {
    const done = await kept(
      () => setProject(p.name, body, p.etag),
      text,
      // Only what was changed is restored.
      (made) =>
        setProject(
          p.name,
          { ...("members" in body && { members: p.members }), ...("closed" in body && { closed: p.closed }) },
          made.etag,
        ),
    );
    void queries.invalidateQueries({ queryKey: ["me"] });
    return done;
  };
  const names = Object.keys(p.members).sort();
  const add = async (event: FormEvent) => {
    event.preventDefault();
    const person = name.trim();
    if (await keep({ members: { ...p.members, [person]: "artist" } }, `${person} belongs to ${p.name}.`)) {
      setName("");
    }
  };
  const remove = (person: string) => {
    const { [person]: _, ...members } = p.members;
    return keep({ members, closed: p.closed }, `${person} does not belong to ${p.name} any more.`);
  };
  return (
    <div className="col-span-full flex flex-wrap items-center gap-x-3 gap-y-1 text-xs text-muted">
      <label className="flex items-center gap-1">
        <input
          type="checkbox"
          className="checkbox checkbox-xs"
          aria-label={`Only members see ${p.name}`}
          checked={p.closed}
          onChange={(e) =>
            void keep(
              { closed: e.target.checked },
              e.target.checked ? `Only members see ${p.name}, and wranglers.` : `Everybody sees ${p.name}.`,
            )
          }
        />
        only members see it
      </label>
      {names.map((person) => (
        <span key={person} className="flex items-center gap-1 border border-hair pl-2">
          <b className="max-w-32 truncate font-semibold text-base-content" title={person}>
            {person}
          </b>
          <select
            className="select w-20 select-xs border-0"
            aria-label={`Role of ${person} in ${p.name}`}
            value={p.members[person]}
            onChange={(e) =>
              void keep(
                { members: { ...p.members, [person]: e.target.value as "artist" | "lead" }, closed: p.closed },
                `${person} is ${e.target.value === "lead" ? "a lead" : "an artist"} of ${p.name}.`,
              )
            }
          >
            <option>artist</option>
            <option>lead</option>
          </select>
          <button
            type="button"
            className="btn btn-ghost btn-xs"
            aria-label={`Take ${person} out of ${p.name}`}
            onClick={() => void remove(person)}
          >
            ×
          </button>
        </span>
      ))}
      <form onSubmit={(event) => void add(event)} className="flex gap-1">
        <input
          className="input w-36 input-xs"
          aria-label={`New member of ${p.name}`}
          placeholder="new member"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <button type="submit" className="btn btn-xs" disabled={name.trim() === ""}>
          Add
        </button>
      </form>
    </div>
  );
}
