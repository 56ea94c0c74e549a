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

/** The folders that nodes read scenes from and write frames to, with their path on each operating system. */
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
      intro="shared folders, and their path on each system; changes that would strand open runs ask first"
      error={places.error}
    >
      <Columns
        of={["place", "launches loading at once", "paths"]}
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
          {usedBy.length > 0
            ? `used by ${usedBy.slice(0, 3).join(", ")}${usedBy.length > 3 ? " …" : ""}`
            : "not used by a project"}
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
              placeholder="no path"
              label={`Path of ${p.name} on ${title}`}
              className="num w-full"
              onKeep={(path) =>
                keep(
                  (strand) => setPlace(p.name, { [system]: path }, strand),
                  path ? `${p.name} is ${path} on ${title}.` : `${p.name} has no path on ${title} any more.`,
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
      <input
        className="input w-44 input-xs"
        aria-label="Name of a place"
        placeholder="name of a place"
        value={made.name}
        onChange={(event) => setMade({ ...made, name: event.target.value })}
      />
      {systems.map(([system, title]) => (
        <input
          key={system}
          className="input w-44 input-xs"
          aria-label={`Path of the place on ${title}`}
          placeholder={`its path on ${title}`}
          value={made[system]}
          onChange={(event) => setMade({ ...made, [system]: event.target.value })}
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
