import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useId, useState } from "react";
import { getProjects, ownProject, tryRecipe } from "../../api/client";
import { useFarm } from "../../api/live";
import { Field } from "../../parts/Field";
import { TrialPart, useTrial } from "../../parts/TrialPart";

interface TryItProps {
  text: string; // of the recipe, as it is written now
  name: string;
  fine: boolean; // it has no mistakes
}

/** Renders a frame by a recipe that is not saved yet, on a node, and shows how its
 * output is understood. */
export function TryIt({ text, name, fine }: TryItProps) {
  const trial = useTrial();
  const begin = (wanted: Parameters<typeof tryRecipe>[0]) => trial.begin(tryRecipe({ ...wanted, text }));
  return (
    <section aria-label="Try it">
      <h2 className="section">
        <b>Try it</b> on a node, with the text above; nothing is delivered
      </h2>
      <Wanted name={name} can={fine && !trial.under} begin={begin} />
      {!fine && <p className="mt-1 text-xs text-muted">The text has mistakes; mend them first.</p>}
      <TrialPart of={trial} />
    </section>
  );
}

interface WantedProps {
  name: string;
  can: boolean;
  begin: (wanted: Parameters<typeof tryRecipe>[0]) => void;
}

function Wanted({ name, can, begin }: WantedProps) {
  const farm = useFarm().data;
  const projects = useQuery({ queryKey: ["projects"], queryFn: getProjects });
  const names = (projects.data ?? []).map((p) => p.name).filter((p) => p !== ownProject);
  const [project, setProject] = useState("");
  const chosen = project || names[0] || "";
  const known = (farm?.runs ?? []).filter((r) => r.project === chosen && r.recipe === name && !r.bundle);
  const scenes = [...new Set(known.map((r) => r.scene))];
  const [scene, setScene] = useState("");
  const [frames, setFrames] = useState("1");
  const [shot, setShot] = useState("");
  const [size, setSize] = useState("");
  const [node, setNode] = useState("");
  const list = useId();
  const pixels = /^(\d+)\s*[x×]\s*(\d+)$/.exec(size.trim());
  const submit = (event: FormEvent) => {
    event.preventDefault();
    begin({
      text: "",
      project: chosen,
      scene: scene.trim(),
      frames: frames.trim(),
      shot: shot.trim(),
      node,
      ...(pixels && { width: Number(pixels[1]), height: Number(pixels[2]) }),
    });
  };
  return (
    <form onSubmit={submit} className="mt-2 flex flex-wrap items-end gap-2">
      <Field name="project">
        <select className="select select-sm" value={chosen} onChange={(e) => setProject(e.target.value)}>
          {names.map((p) => (
            <option key={p}>{p}</option>
          ))}
        </select>
      </Field>
      <Field name="scene, in its scene place" className="min-w-[200px] flex-1">
        <input
          className="input w-full input-sm"
          required
          list={list}
          placeholder={scenes[0] ?? "shots/vase.glass"}
          value={scene}
          onChange={(e) => setScene(e.target.value)}
        />
        <datalist id={list}>
          {scenes.map((s) => (
            <option key={s} value={s} />
          ))}
        </datalist>
      </Field>
      <Field name="frames" className="w-[60px]">
        <input className="input num input-sm" required value={frames} onChange={(e) => setFrames(e.target.value)} />
      </Field>
      <Field name="of the shot" className="w-[100px]">
        <input
          className="input num input-sm"
          placeholder="scene's"
          title="all frames of the animation, such as 1-120, where the scene does not say"
          value={shot}
          onChange={(e) => setShot(e.target.value)}
        />
      </Field>
      <Field name="size" className="w-[100px]">
        <input
          className="input num input-sm"
          placeholder="scene's"
          pattern="\s*\d+\s*[x×]\s*\d+\s*"
          title="width and height in pixels, such as 320x180, where it shall not be as the scene says"
          value={size}
          onChange={(e) => setSize(e.target.value)}
        />
      </Field>
      <Field name="node">
        <select className="select select-sm" value={node} onChange={(e) => setNode(e.target.value)}>
          <option value="">any that is free</option>
          {(farm?.nodes ?? [])
            .filter((n) => n.reach === "online")
            .map((n) => (
              <option key={n.id}>{n.name}</option>
            ))}
        </select>
      </Field>
      <button type="submit" className="btn btn-sm" disabled={!can}>
        Try
      </button>
    </form>
  );
}
