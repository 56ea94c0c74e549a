import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { getProjects, getScene, isArtist, type Me, ownProject, type Scene } from "../../api/client";
import { useFarm } from "../../api/live";
import { useAddress } from "../../parts/address";
import { NotAllowed } from "../../parts/NotAllowed";
import { sentence } from "../../parts/time";
import { useTitle } from "../../parts/title";
import { FormPart } from "./FormPart";
import { ownerOf } from "./owner";
import { ScenePick } from "./ScenePick";

/** From a scene to a run: the scene is found first, and all else stands there already,
 * from what it says, from presets and from the project. */
export function SubmitPage({ me }: { me: Me }) {
  useTitle("Submit");
  const [address, change] = useAddress();
  const projects = useQuery({ queryKey: ["projects"], queryFn: getProjects });
  const all = (projects.data ?? []).filter((p) => p.name !== ownProject);
  const runs = useFarm().data?.runs ?? [];
  const scene = address.get("scene") ?? "";
  const path = scene || (address.get("folder") ?? "");
  const first = all.find((p) => p.name === address.get("project")) ?? all[0];
  const owner = first && ownerOf(path, first, all, runs);
  // Until somebody selects a project, it follows the folder; after that, a mismatch is only reported.
  const project = address.get("project") ?? owner?.name ?? first?.name ?? "";
  const recipe = address.get("recipe") ?? "";
  if (!isArtist(me)) {
    return <NotAllowed me={me} what="Runs are submitted by artists and wranglers." />;
  }
  return (
    <main className="max-w-[1204px] px-4 pt-[14px] pb-8 sm:px-6">
      <header className="flex flex-wrap items-end gap-x-4 gap-y-2 border-b border-hair pb-3">
        <div className="min-w-0 flex-1 max-sm:basis-full">
          <h1 className="text-xl font-[650]">Submit</h1>
          <p className="text-[13px] text-muted">
            {scene === "" ? "Which scene is to be rendered?" : <span className="num break-all">{scene}</span>}
          </p>
        </div>
        {scene !== "" && (
          <button type="button" className="btn btn-sm" onClick={() => change({ scene: "", recipe: "" })}>
            Another scene
          </button>
        )}
        <label className="flex min-w-0 items-center gap-2 text-xs whitespace-nowrap text-muted">
          project
          <select
            className="select min-w-0 select-sm"
            value={project}
            onChange={(e) => change({ project: e.target.value, folder: "", scene: "", recipe: "" })}
          >
            {all.map((p) => (
              <option key={p.name} value={p.name}>
                {p.title || p.name}
              </option>
            ))}
          </select>
        </label>
      </header>
      {projects.data && all.length === 0 && (
        <p className="py-3 text-muted">There is no project yet; a wrangler sets one up.</p>
      )}
      {projects.data && all.length > 0 && !all.some((p) => p.name === project) && (
        <p role="alert" className="py-3 text-failed">
          ✕ There is no project {project}; choose one above.
        </p>
      )}
      {owner && owner.name !== project && (
        <p role="status" className="flex flex-wrap items-center gap-3 py-2 text-[13px] text-held">
          <span>
            ! <span className="num">{path}</span> seems to belong to {owner.title || owner.name}, but{" "}
            {first?.title || project} is selected.
          </span>
          <button type="button" className="btn btn-xs" onClick={() => change({ project: owner.name })}>
            Submit to {owner.title || owner.name}
          </button>
        </p>
      )}
      {all.some((p) => p.name === project) &&
        (scene === "" ? (
          <ScenePick
            key={project}
            project={project}
            folder={address.get("folder") ?? ""}
            onFolder={(folder) => change({ folder })}
            onScene={(s) => change({ project, scene: s, recipe: "" })}
          />
        ) : (
          <OfScene
            key={`${project} ${scene} ${recipe}`}
            me={me}
            project={project}
            scene={scene}
            recipe={recipe}
            onRecipe={(r) => change({ recipe: r })}
          />
        ))}
    </main>
  );
}

interface OfSceneProps {
  me: Me;
  project: string;
  scene: string;
  recipe: string;
  onRecipe: (recipe: string) => void;
}

function OfScene({ me, project, scene, recipe, onRecipe }: OfSceneProps) {
  const said = useQuery({
    queryKey: ["scene", project, scene, recipe],
    queryFn: () => getScene(project, scene, recipe),
    retry: false,
  });
  if (said.isError) {
    return (
      <p role="alert" className="py-3 text-failed">
        ✕ {sentence(said.error.message)}
      </p>
    );
  }
  if (!said.data) {
    return <p className="py-3 text-muted">Reading the scene …</p>;
  }
  return (
    <>
      <Said of={said.data} onRecipe={onRecipe} />
      <FormPart me={me} project={project} scene={said.data} />
    </>
  );
}

/** What the scene says of itself. */
function Said({ of, onRecipe }: { of: Scene; onRecipe: (recipe: string) => void }) {
  const [typing, setTyping] = useState<string | null>(null);
  const says = [
    of.shot && `frames ${of.shot}${of.file ? "" : ", as its last run says"}`,
    of.width > 0 && `${of.width} × ${of.height}`,
    of.cameras.length > 1 && `${of.cameras.length} cameras`,
    of.layers.length > 1 && `${of.layers.length} layers`,
  ].filter(Boolean);
  return (
    <div className="border-b border-hair py-2 text-[13px]">
      <p>
        {of.recipe_title || of.recipe}
        {says.length > 0 && <span className="text-muted"> · {says.join(" · ")}</span>}{" "}
        {typing === null ? (
          <button type="button" className="btn btn-ghost btn-xs" onClick={() => setTyping(of.recipe)}>
            another recipe
          </button>
        ) : (
          <input
            className="input w-36 input-xs"
            aria-label="Recipe"
            value={typing}
            onChange={(e) => setTyping(e.target.value)}
            onKeyDown={(e) => e.key === "Enter" && onRecipe(typing.trim())}
          />
        )}
      </p>
      {of.remarks.map((r) => (
        <p key={r} className="text-held">
          ! {sentence(r)}
        </p>
      ))}
    </div>
  );
}
