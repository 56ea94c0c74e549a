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

/** The untouched form of a scene: all of its cameras are selected. */
export const firstForm = (scene: Scene): Form => ({ ...emptyForm, cameras: scene.cameras });

/** The place of a form in the storage of this tab: of one person, project, scene and recipe. */
export const formKey = (person: string, project: string, scene: Scene) =>
  JSON.stringify(["vexillum form", person, project, scene.scene, scene.recipe]);

/** What was typed before the page was reloaded; the untouched form if nothing was. Cameras and layers
 * that the scene no longer has are left out, and so are fields of another version of the console. */
export function keptForm(key: string, scene: Scene): Form {
  const first = firstForm(scene);
  try {
    const kept = JSON.parse(sessionStorage.getItem(key) ?? "{}");
    const fields = Object.entries(first).map(([name, value]) => {
      const old = kept[name];
      return [
        name,
        old !== null && typeof old === typeof value && Array.isArray(old) === Array.isArray(value) ? old : value,
      ];
    });
    const form: Form = Object.fromEntries(fields);
    return {
      ...form,
      cameras: form.cameras.filter((c) => scene.cameras.includes(c)),
      layers: form.layers.filter((l) => scene.layers.includes(l)),
    };
  } catch {
    return first; // it cannot be read, or the browser allows no storage
  }
}

/** Keeps a form until this tab is closed; null forgets it. */
export function keepForm(key: string, form: Form | null) {
  try {
    if (form) {
      sessionStorage.setItem(key, JSON.stringify(form));
    } else {
      sessionStorage.removeItem(key);
    }
  } catch {
    // The form works without storage, too.
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
