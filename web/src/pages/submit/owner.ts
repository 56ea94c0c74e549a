import type { Project, Run } from "../../api/client";

/** The project that a folder or a scene belongs to, where that is not the chosen one: the project that one
 * of its folders is named after, or else the only one that has rendered scenes of that folder before. Only
 * projects with the same scene place come into question. */
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
