import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { getPlaces, getProjects, ownProject, type Place, setPlace, setPlaceLoads } from "../../api/client";
import { Count, useKeep, Written } from "./keep";
import { Columns, lookAgain, Part, useFound } from "./Part";

const systems = [
  ["linux", "Linux"],
  ["darwin", "macOS"],
  ["windows", "Windows"],
] as const;

/** The folders that nodes read scenes from and write frames to, as each operating system calls them. */
export function PlacesPart() {
  const places = useQuery({ queryKey: ["places"], queryFn: getPlaces, refetchInterval: lookAgain });
  const projects = useQuery({ queryKey: ["projects"], queryFn: getProjects, refetchInterval: lookAgain });
  const all = places.data?.filter((p) => !p.name.startsWith(`${ownProject}-`));
  const { shown, more } = useFound(all, (p) => [p.name, ...Object.values(p.paths)]);
  const usedBy = (place: string) =>
    (projects.data ?? []).filter((p) => p.scenes === place || p.frames === place).map((p) => p.name);
  return (
    <Part
      name="Places"
      intro="folders, as each system calls them; a change that would strand open runs says so first"
      error={places.error}
    >
      <Columns
        of={["place", "launches that load at once", "paths"]}
        className="md:grid md:grid-cols-[180px_150px_minmax(0,1fr)]"
      />
      <ul>
        {shown.map((p) => (
          <Row key={p.name} place={p} usedBy={usedBy(p.name)} />
        ))}
      </ul>
      {more}
      <NewPlace />
    </Part>
  );
}

function Row({ place: p, usedBy }: { place: Place; usedBy: string[] }) {
  const keep = useKeep("places");
  return (
    <li className="grid grid-cols-1 items-start gap-x-4 gap-y-1 border-b border-hair py-2 md:grid-cols-[180px_150px_minmax(0,1fr)]">
      <span className="min-w-0">
        <b className="block truncate font-semibold" title={p.name}>
          {p.name}
        </b>
        <span className="block text-xs text-muted">
          {usedBy.length > 0 ? `of ${usedBy.slice(0, 3).join(", ")}${usedBy.length > 3 ? " …" : ""}` : "of no project"}
        </span>
      </span>
      <Count
        value={p.loads === 0 ? null : p.loads}
        none="any number"
        label={`Launches that may load from ${p.name} at once`}
        onKeep={(n) =>
          keep(
            () => setPlaceLoads(p, n ?? 0),
            `Place ${p.name}: ${n === null ? "any number" : n} at once.`,
            () => setPlaceLoads(p, p.loads),
          )
        }
      />
      <div className="flex min-w-0 flex-col gap-1">
        {p.mark !== "marked" && <p className="text-xs text-failed">✕ Here, the folder is {p.mark}.</p>}
        {systems.map(([system, title]) => (
          <div key={system} className="flex items-center gap-2 text-xs text-muted">
            <span className="w-14 shrink-0">{title}</span>
            <Written
              value={p.paths[system] ?? ""}
              placeholder="not there"
              label={`Path of ${p.name} on ${title}`}
              className="num w-full"
              onKeep={(path) =>
                keep(
                  (strand) => setPlace(p.name, { [system]: path }, strand),
                  path ? `${p.name} is ${path} on ${title}.` : `${p.name} is not there on ${title} any more.`,
                  () => setPlace(p.name, { [system]: p.paths[system] ?? "" }),
                )
              }
            />
          </div>
        ))}
      </div>
    </li>
  );
}

const nothing = { name: "", linux: "", darwin: "", windows: "" };

function NewPlace() {
  const keep = useKeep("places");
  const [made, setMade] = useState(nothing);
  const add = (event: FormEvent) => {
    event.preventDefault();
    const { name, ...paths } = made;
    const given = Object.fromEntries(Object.entries(paths).filter(([, path]) => path.trim() !== ""));
    void keep((strand) => setPlace(name.trim(), given, strand), `There is a place ${name.trim()}.`).then((done) => {
      if (done) {
        setMade(nothing);
      }
    });
  };
  return (
    <form onSubmit={add} className="mt-2 flex flex-wrap gap-2">
      {(
        [
          ["name", "name of a place"],
          ["linux", "its path on Linux"],
          ["darwin", "on macOS"],
          ["windows", "on Windows"],
        ] as const
      ).map(([field, what]) => (
        <input
          key={field}
          className="input w-44 input-xs"
          aria-label={field === "name" ? "Name of a place" : `Path of the place, ${what}`}
          placeholder={what}
          value={made[field]}
          onChange={(event) => setMade({ ...made, [field]: event.target.value })}
        />
      ))}
      <button
        type="submit"
        className="btn btn-xs"
        disabled={made.name.trim() === "" || !(made.linux + made.darwin + made.windows).trim()}
      >
        Make it
      </button>
    </form>
  );
}
