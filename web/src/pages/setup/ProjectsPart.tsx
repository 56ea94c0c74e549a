import { useQuery } from "@tanstack/react-query";
import { getPlaces, getProjects, ownProject, type Project, setProject } from "../../api/client";
import { ByName, numberIn, useKeep, Written } from "./keep";
import { Members } from "./Members";
import { Columns, lookAgain, Part, useFound } from "./Part";

/** The productions: where their scenes and frames lie, and how the farm is shared. */
export function ProjectsPart() {
  const projects = useQuery({ queryKey: ["projects"], queryFn: getProjects, refetchInterval: lookAgain });
  const places = useQuery({ queryKey: ["places"], queryFn: getPlaces });
  const keep = useKeep("projects");
  const names = (places.data ?? []).map((p) => p.name);
  const { shown, more } = useFound(
    projects.data?.filter((p) => p.name !== ownProject),
    (p) => [p.name, p.title, ...Object.keys(p.members)],
  );
  return (
    <Part
      name="Projects"
      intro="weight 2 gets twice the share of weight 1; a project that uses up its budget is reported"
      error={projects.error}
    >
      <Columns
        of={["project", "title", "weight", "machine hours used, and budget", "scenes", "frames"]}
        className="lg:grid lg:grid-cols-[110px_minmax(110px,1fr)_64px_200px_120px_120px]"
      />
      <ul>
        {shown.map((p: Project) => (
          <li
            key={p.name}
            className="grid grid-cols-2 items-center gap-x-4 gap-y-1 border-b border-hair py-2 lg:grid-cols-[110px_minmax(110px,1fr)_64px_200px_120px_120px]"
          >
            <b className="truncate font-semibold" title={p.name}>
              {p.name}
            </b>
            <Written
              value={p.title}
              placeholder="title"
              label={`Title of ${p.name}`}
              onKeep={(title) =>
                keep(
                  () => setProject(p.name, { title }),
                  `${p.name} is called ${title || p.name}.`,
                  (made) => setProject(p.name, { title: p.title }, made.etag),
                )
              }
            />
            <Written
              value={String(p.weight)}
              label={`Weight of ${p.name}`}
              className="num w-full"
              onKeep={(text) =>
                keep(
                  async () => setProject(p.name, { weight: numberIn(text) }),
                  `${p.name} has a weight of ${text}.`,
                  (made) => setProject(p.name, { weight: p.weight }, made.etag),
                )
              }
            />
            <span className="flex items-center gap-2 text-xs text-muted">
              <span className="num shrink-0" title="machine hours that its leases have taken up, of its budget">
                {p.spent_hours} h of
              </span>
              <Written
                value={p.budget_hours > 0 ? String(p.budget_hours) : ""}
                placeholder="no budget"
                label={`Budget of ${p.name} in machine hours`}
                className="num w-full"
                onKeep={(text) =>
                  keep(
                    async () => setProject(p.name, { budget_hours: numberIn(text) }),
                    /[1-9]/.test(text)
                      ? `${p.name} has a budget of ${text} machine hours.`
                      : `${p.name} has no budget.`,
                    (made) => setProject(p.name, { budget_hours: p.budget_hours }, made.etag),
                  )
                }
              />
            </span>
            {(["scenes", "frames"] as const).map((what) => (
              <label key={what} className="flex items-center gap-2 text-xs text-muted">
                <span className="shrink-0 lg:hidden">{what}</span>
                <select
                  className="select w-full select-xs"
                  aria-label={`Place of the ${what} of ${p.name}`}
                  value={p[what]}
                  onChange={(e) =>
                    void keep(
                      (strand) => setProject(p.name, { [what]: e.target.value, strand }),
                      `${p.name}: ${what} are in ${e.target.value}.`,
                      (made) => setProject(p.name, { [what]: p[what] }, made.etag),
                    )
                  }
                >
                  {[...new Set([p[what], ...names])].map((n) => (
                    <option key={n}>{n}</option>
                  ))}
                </select>
              </label>
            ))}
            <Members project={p} />
          </li>
        ))}
      </ul>
      {more}
      <ByName
        what="a project"
        button="Make it"
        disabled={names.length === 0}
        onMake={(name) =>
          keep(
            () => setProject(name, { scenes: names[0], frames: names[1] ?? names[0] }),
            `There is a project ${name}.`,
          )
        }
      />
      {places.data?.length === 0 && <p className="text-xs text-muted">A place has to be there first.</p>}
    </Part>
  );
}
