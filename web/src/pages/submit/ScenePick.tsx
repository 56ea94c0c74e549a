import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { type Folder, getFolder } from "../../api/client";
import { amount } from "../../parts/Gauge";
import { clock, sentence, useNow } from "../../parts/time";

interface Props {
  project: string;
  folder: string;
  onFolder: (folder: string) => void;
  onScene: (scene: string) => void;
}

/** Finds a scene in the scene place of a project: by going through its folders, or by
 * its path, where only nodes see the place. */
export function ScenePick({ project, folder, onFolder, onScene }: Props) {
  const [typed, setTyped] = useState("");
  const [search, setSearch] = useState("");
  const [all, setAll] = useState(false);
  const now = useNow(60_000);
  const found = useQuery({
    queryKey: ["folder", project, folder],
    queryFn: () => getFolder(project, folder),
    enabled: project !== "",
    retry: false,
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onScene(typed.trim());
  };
  const entries = (found.data?.entries ?? []).filter(
    (e) => (all || e.folder || e.recipes.length > 0) && e.name.toLowerCase().includes(search.toLowerCase()),
  );
  const hidden = (found.data?.entries ?? []).filter((e) => !e.folder && e.recipes.length === 0).length;
  return (
    <div>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2 py-2">
        <Crumbs folder={folder} onFolder={onFolder} />
        <input
          className="input ml-auto w-40 input-xs"
          type="search"
          aria-label="Search in this folder"
          placeholder="search in this folder"
          value={search}
          onChange={(e) => setSearch(e.target.value)}
        />
      </div>
      {found.isError && (
        <p role="alert" className="text-[13px] text-failed">
          ✕ {sentence(found.error.message)}
        </p>
      )}
      <ul aria-label="Scenes" className="max-h-[380px] overflow-y-auto border-t border-hair">
        {entries.map((e) => (
          <li key={e.name} className="border-b border-hair">
            <Entry
              entry={e}
              now={now}
              onPick={() => (e.folder ? onFolder(under(folder, e.name)) : onScene(under(folder, e.name)))}
            />
          </li>
        ))}
      </ul>
      {found.data && entries.length === 0 && (
        <p className="py-2 text-[13px] text-muted">
          {search ? "Nothing here is called so." : "There is no scene here that a recipe reads."}
        </p>
      )}
      {found.data?.more && (
        <p className="py-1 text-xs text-muted">
          There is more in this folder than is shown; type the path of the scene.
        </p>
      )}
      {hidden > 0 && (
        <button type="button" className="btn mt-1 btn-ghost btn-xs" onClick={() => setAll(!all)}>
          {all ? "Hide" : "Show"} {hidden === 1 ? "1 file" : `${hidden} files`} that no recipe reads
        </button>
      )}
      <form onSubmit={submit} className="mt-3 flex max-w-[560px] gap-2">
        <input
          className="input num grow input-sm"
          aria-label="Path of the scene"
          placeholder="or its path, such as shots/vase.pov"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <button type="submit" className="btn btn-sm" disabled={typed.trim() === "" || project === ""}>
          Take it
        </button>
      </form>
    </div>
  );
}

const under = (folder: string, name: string) => (folder === "" ? name : `${folder}/${name}`);

function Crumbs({ folder, onFolder }: { folder: string; onFolder: (folder: string) => void }) {
  const steps = folder === "" ? [] : folder.split("/");
  return (
    <nav aria-label="Folder" className="flex min-w-0 flex-wrap items-center gap-1 text-[13px]">
      {folder === "" ? (
        <span className="px-2 text-muted">scene place</span>
      ) : (
        <button type="button" className="btn btn-ghost btn-xs" onClick={() => onFolder("")}>
          scene place
        </button>
      )}
      {steps.map((step, i) => (
        <span key={steps.slice(0, i + 1).join("/")} className="flex items-center gap-1">
          <span className="text-muted">/</span>
          {i === steps.length - 1 ? (
            <b className="px-2 font-semibold">{step}</b>
          ) : (
            <button
              type="button"
              className="btn btn-ghost btn-xs"
              onClick={() => onFolder(steps.slice(0, i + 1).join("/"))}
            >
              {step}
            </button>
          )}
        </span>
      ))}
    </nav>
  );
}

function Entry({ entry, now, onPick }: { entry: Folder["entries"][number]; now: number; onPick: () => void }) {
  const dead = !entry.folder && entry.recipes.length === 0;
  return (
    <button
      type="button"
      className="grid w-full cursor-pointer grid-cols-[minmax(0,1fr)_auto] items-baseline gap-x-4 px-1 py-1.5 text-left hover:bg-base-200 disabled:cursor-default sm:grid-cols-[minmax(0,1fr)_170px_80px_110px]"
      onClick={onPick}
      disabled={dead}
    >
      <span className={`truncate ${dead ? "text-muted" : "font-semibold"}`} title={entry.name}>
        {entry.name}
        {entry.folder && "/"}
      </span>
      <span className="truncate text-xs text-muted">{entry.recipes.join(", ")}</span>
      <span className="num text-right text-xs text-muted max-sm:hidden">{entry.folder ? "" : amount(entry.bytes)}</span>
      <span className="num text-right text-xs text-muted max-sm:hidden">
        {entry.modified_at && clock(entry.modified_at, now)}
      </span>
    </button>
  );
}
