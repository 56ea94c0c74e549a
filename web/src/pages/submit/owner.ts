import type { Project, Run } from "../../api/client";

/** The project that a folder or scene seems to belong to, if it is not the selected one: the one that a
 * folder on the way is named after, or else the only one that has rendered scenes from there. Only
 * projects with the same scene place are considered. */
export function ownerOf(path: string, chosen: Project, projects: Project[], runs: Run[]): Project | undefined {
  const others = projects.filter((p) => p.name !== chosen.name && p.scenes === chosen.scenes);
  if (path === "" || others.length === 0) {
    return undefined;
  }
  const steps = path.toLowerCase().split("/");
  const named = (p: Project) => steps.some((s) => s === p.name.toLowerCase() || s === p.title.toLowerCase());
  if (named(chosen)) {
    return undefined;
  }
  const namesake = others.filter(named);
  if (namesake.length > 0) {
    return namesake.length === 1 ? namesake[0] : undefined;
  }
  const before = new Set(runs.filter((r) => r.scene === path || r.scene.startsWith(`${path}/`)).map((r) => r.project));
  if (before.size !== 1) {
    return undefined;
  }
  return others.find((p) => before.has(p.name));
}
