import type { FileMistake, Scene } from "../../api/client";
import { names } from "../../parts/names";

/** What somebody has chosen, as it stands in the fields. What is empty is as the
 * scene, the preset and the recipe say. */
export interface Form {
  name: string;
  preset: string;
  frames: string;
  shot: string;
  size: string;
  scale: string;
  proof: boolean;
  every: string; // of the proof
  proofScale: string;
  cameras: string[];
  layers: string[];
  passes: string[];
  values: Record<string, string>;
  tiles: string;
  overlap: string;
  dropTiles: boolean;
  oneByOne: boolean;
  priority: string;
  needs: string;
  nodes: string;
  without: string;
  pools: string;
  ceiling: string;
  tries: string;
  holdAfter: string;
  due: string; // as an input of type datetime-local has it
  output: string;
  after: string;
  held: boolean;
}

export const emptyForm: Form = {
  name: "",
  preset: "",
  frames: "",
  shot: "",
  size: "",
  scale: "",
  proof: false,
  every: "",
  proofScale: "",
  cameras: [],
  layers: [],
  passes: [],
  values: {},
  tiles: "",
  overlap: "",
  dropTiles: false,
  oneByOne: false,
  priority: "",
  needs: "",
  nodes: "",
  without: "",
  pools: "",
  ceiling: "",
  tries: "",
  holdAfter: "",
  due: "",
  output: "",
  after: "",
  held: false,
};

/** The form of a scene that nobody has changed yet: all of its cameras are chosen. */
export const firstForm = (scene: Scene): Form => ({ ...emptyForm, cameras: scene.cameras });

const keptAs = (project: string, scene: Scene) => `vexillum form ${project} ${scene.scene} ${scene.recipe}`;

/** What was typed for a scene before the page was loaded again, in this tab; null: nothing. */
export function keptForm(project: string, scene: Scene): Form | null {
  try {
    const kept = JSON.parse(sessionStorage.getItem(keptAs(project, scene)) ?? "null");
    return kept && { ...emptyForm, ...kept };
  } catch {
    return null; // of another version, or where nothing may be kept
  }
}

/** Keeps what is typed for a scene until this tab is closed; a form that nobody has changed is forgotten. */
export function keepForm(form: Form, project: string, scene: Scene) {
  try {
    if (sameForm(form, firstForm(scene))) {
      sessionStorage.removeItem(keptAs(project, scene));
    } else {
      sessionStorage.setItem(keptAs(project, scene), JSON.stringify(form));
    }
  } catch {
    // Where nothing may be kept the form works all the same.
  }
}

/** Whether two forms say the same. */
export const sameForm = (a: Form, b: Form) => JSON.stringify(a) === JSON.stringify(b);

export type Change = (changes: Partial<Form>) => void;

/** A whole number as one, so that the schema can say what is wrong with others. */
const count = (text: string) => (/^\d+$/.test(text.trim()) ? Number(text) : text.trim());

/** A percentage, with its sign left out or not. */
const percent = (text: string) => (/^[\d.]+$/.test(text.trim()) ? `${text.trim()}%` : text.trim());

/** The job file that says the same as the form. */
export function jobFile(form: Form, project: string, scene: Scene): string {
  const several = {
    ...(form.cameras.length > 1 && { camera: form.cameras }),
    ...(form.layers.length > 1 && { layer: form.layers }),
  };
  const values = {
    ...Object.fromEntries(Object.entries(form.values).filter(([, v]) => v.trim() !== "")),
    ...(form.cameras.length === 1 && { camera: form.cameras[0] }),
    ...(form.layers.length === 1 && { layer: form.layers[0] }),
  };
  const proof = {
    ...(form.every.trim() && { every: count(form.every) }),
    ...(form.proofScale.trim() && { scale: percent(form.proofScale) }),
  };
  const text = (field: keyof Form) => {
    const value = String(form[field]).trim();
    return value ? { [field]: value } : {};
  };
  const list = (field: "nodes" | "without" | "pools") => {
    const all = names(form[field]);
    return all.length > 0 ? { [field]: all } : {};
  };
  const some = (field: string, value: object) => (Object.keys(value).length > 0 ? { [field]: value } : {});
  const job = {
    ...text("name"),
    project,
    scene: scene.scene,
    recipe: scene.recipe,
    ...text("preset"),
    ...text("frames"),
    // What only a run of the scene's own job has told would not be known of one that is called otherwise.
    ...text("shot"),
    ...(form.shot.trim() === "" &&
      form.name.trim() !== "" &&
      form.name.trim() !== scene.job &&
      scene.file === "" &&
      scene.shot !== "" && { shot: scene.shot }),
    ...(form.size.trim() && { size: form.size.replace(/\s/g, "") }),
    ...(form.scale.trim() && { scale: percent(form.scale) }),
    ...some("each", several),
    ...some("values", values),
    ...(form.passes.length > 0 && { passes: form.passes }),
    ...(form.proof && some("proof", proof)),
    ...text("tiles"),
    ...(form.overlap.trim() && { overlap: count(form.overlap) }),
    ...(form.tiles.trim() && form.dropTiles && { drop_tiles: true }),
    ...(form.tiles.trim() && form.oneByOne && { one_by_one: true }),
    ...text("priority"),
    ...text("needs"),
    ...list("nodes"),
    ...list("without"),
    ...list("pools"),
    ...text("ceiling"),
    ...(form.tries.trim() && { tries: count(form.tries) }),
    ...(form.holdAfter.trim() && { hold_after: count(form.holdAfter) }),
    ...(form.due && { due: new Date(form.due).toISOString() }),
    ...text("output"),
    ...(form.after.trim() && { after: names(form.after) }),
    ...(form.held && { held: true }),
  };
  return JSON.stringify({ job_file: 1, jobs: [job] }, null, 2);
}

/** The last step of the way to the field of a mistake, such as frames of jobs[0].frames. */
const step = (field: string) => field.replace(/^jobs(\[\d+\]|\.\d+)?\.?/, "").split(/[.[]/)[0];

/** The mistakes by the field of the form in which they are. */
export function byField(mistakes: FileMistake[]): Map<string, string> {
  const out = new Map<string, string>();
  for (const m of mistakes) {
    const field = step(m.field);
    if (!out.has(field)) {
      out.set(field, m.what);
    }
  }
  return out;
}
