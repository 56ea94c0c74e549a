import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import {
  checkRecipe,
  dropRecipe,
  type FileMistake,
  getRecipe,
  isWrangler,
  type Me,
  type RecipeDetail,
  type RecipeVersion,
  setRecipe,
} from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { Facts } from "../../parts/Facts";
import { NotAllowed } from "../../parts/NotAllowed";
import { Waits } from "../../parts/Notice";
import { clock, useNow } from "../../parts/time";
import { useTitle } from "../../parts/title";
import { useToast } from "../../parts/toast";
import { useUnsaved } from "../../parts/unsaved";
import { source } from "./source";
import { TryIt } from "./TryIt";

const RecipeText = lazy(() => import("./RecipeText"));

/** What a new recipe begins with. */
const skeleton = `recipe: 2
name:                  # small letters, digits and hyphens
title:                 # as people call the renderer
mode: range            # range | single | feed | whole
stop: kill             # border | kill | never
repeatable: true
program:               # found on the path of the nodes
probe:                 # a node has the renderer if this tells a version
  arguments: ["--version"]
  version: '(\\d+(?:\\.\\d+)+)'
scenes: []             # endings of scene files, such as ".glass"
picture: png           # png | jpeg | tiff | exr
arguments: ["{scene}"]
frame_file: '^frame(\\d+)\\.png$'
read:
  begins: ''           # a line with which a frame begins; the group is its number
`;

/** A recipe: its text, what is wrong with it, and its versions. */
export function RecipePage({ me }: { me: Me }) {
  const { recipe } = useParams();
  const [version, setVersion] = useState<number>();
  useTitle(recipe ?? "New recipe");
  const known = useQuery({
    queryKey: ["recipes", recipe, version ?? 0],
    queryFn: () => getRecipe(recipe ?? "", version),
    enabled: recipe !== undefined,
    placeholderData: (before) => before,
  });
  if (recipe === undefined) {
    return isWrangler(me) ? <Edit me={me} /> : <NotAllowed me={me} what="Recipes are written by wranglers." />;
  }
  if (!known.data) {
    return <Waits query={known} what="Reading the recipe …" />;
  }
  return (
    <Edit
      key={`${known.data.name} ${known.data.version}`}
      me={me}
      known={known.data}
      onVersion={(n) => setVersion(n === known.data.versions[0]?.number ? undefined : n)}
    />
  );
}

interface EditProps {
  me: Me;
  known?: RecipeDetail; // none: it is a new one
  onVersion?: (n: number) => void;
}

function Edit({ me, known, onVersion }: EditProps) {
  const before = known?.text ?? skeleton;
  const [text, setText] = useState(before);
  const [note, setNote] = useState("");
  const [problem, setProblem] = useState("");
  const [dropping, setDropping] = useState(false);
  const check = useCheck(text, text !== before || !known);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const tell = useToast();
  const mayWrite = isWrangler(me);
  const old = known !== undefined && known.version !== known.versions[0]?.number;
  const name = check.name || known?.name || "";
  const [saved, setSaved] = useState<{ name: string; text: string }>();
  const leaving = useUnsaved(
    mayWrite && text !== before && text !== saved?.text
      ? `The changes to ${name || "the new recipe"} are not saved.`
      : "",
  );
  useEffect(() => {
    if (saved) navigate(`/setup/recipes/${saved.name}`); // once it counts as saved
  }, [saved, navigate]);
  const keep = async () => {
    setProblem("");
    try {
      const kept = await setRecipe(name, text, note, name === known?.name ? known.etag : undefined);
      await queries.invalidateQueries({ queryKey: ["recipes"] });
      tell({ text: `Version ${kept.version} of ${kept.name} is in force for new runs.` });
      setSaved({ name: kept.name, text });
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return (
    <main className="max-w-[1180px] px-4 pt-[14px] pb-8 sm:px-6">
      <header className="flex flex-wrap items-end gap-x-4 gap-y-2 border-b border-hair pb-3">
        <div className="min-w-0 flex-1">
          <p className="text-xs text-muted">
            <Link to="/setup" className="hover:underline">
              Setup
            </Link>{" "}
            · recipe
          </p>
          <h1 className="truncate text-xl font-[650]">{known?.name ?? "New recipe"}</h1>
          <p className="text-[13px] text-muted">{known ? known.title : "How a renderer is started, fed and read."}</p>
        </div>
        {mayWrite && known && !known.dropped && (
          <button type="button" className="btn btn-sm" onClick={() => setDropping(true)}>
            Drop
          </button>
        )}
      </header>
      {known?.dropped && (
        <p className="mt-3 text-failed">It was dropped: no new run may have it. Save it to bring it back.</p>
      )}
      {old && (
        <p className="mt-3 text-brass">
          This is version {known.version}, not the newest. Save it to make it the newest.
        </p>
      )}
      <div className="mt-3 grid gap-6 lg:grid-cols-[minmax(0,1fr)_300px]">
        <div className="min-w-0">
          <Suspense fallback={<p className="text-muted">Opening the text …</p>}>
            <RecipeText text={text} mistakes={check.mistakes} fixed={!mayWrite} onChange={setText} />
          </Suspense>
          {mayWrite && (
            <Save
              can={check.fine && (text !== before || old || known?.dropped === true)}
              note={note}
              onNote={setNote}
              onSave={() => void keep()}
            />
          )}
          {problem && (
            <p role="alert" className="mt-2 text-failed">
              ✕ {problem}
            </p>
          )}
          <Mistakes all={check.mistakes} />
          {mayWrite && <TryIt text={text} name={name} fine={check.fine} />}
        </div>
        <div>{known && <Beside known={known} onVersion={onVersion} />}</div>
      </div>
      {leaving}
      {dropping && known && (
        <Confirm
          title={`Drop the recipe ${known.name}?`}
          yes="Drop it"
          danger
          onYes={async () => {
            await dropRecipe(known.name);
            await queries.invalidateQueries({ queryKey: ["recipes"] });
            tell({ text: `No new run may have the recipe ${known.name}.` });
            navigate("/setup");
          }}
          onNo={() => setDropping(false)}
        >
          No new run may have it. Open runs go on with it, and its versions stay.
        </Confirm>
      )}
    </main>
  );
}

interface SaveProps {
  can: boolean;
  note: string;
  onNote: (text: string) => void;
  onSave: () => void;
}

function Save({ can, note, onNote, onSave }: SaveProps) {
  return (
    <form
      className="mt-2 flex flex-wrap gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        onSave();
      }}
    >
      <input
        className="input min-w-0 flex-1 input-sm"
        aria-label="Why it was changed"
        placeholder="why it was changed"
        maxLength={400}
        value={note}
        onChange={(event) => onNote(event.target.value)}
      />
      <button type="submit" className="btn btn-sm btn-primary" disabled={!can}>
        Save as a new version
      </button>
    </form>
  );
}

function Mistakes({ all }: { all: FileMistake[] }) {
  if (all.length === 0) {
    return null;
  }
  return (
    <ul aria-label="Mistakes" className="mt-3 text-[13px]">
      {all.map((m) => (
        <li
          key={`${m.line} ${m.column} ${m.field} ${m.what}`}
          className="grid grid-cols-[90px_minmax(0,1fr)] gap-2 py-0.5"
        >
          <span className="num text-muted">{m.line > 0 ? `line ${m.line}` : "the file"}</span>
          <span className="text-failed">
            {m.field && <span className="num">{m.field}: </span>}
            {m.what}
          </span>
        </li>
      ))}
    </ul>
  );
}

function Beside({ known, onVersion }: { known: RecipeDetail; onVersion?: (n: number) => void }) {
  const now = useNow();
  return (
    <>
      <Facts
        rows={[
          ["mode", known.mode],
          ["scenes", known.scenes.join(" ")],
          ["nodes", `${known.nodes} ${known.nodes === 1 ? "has" : "have"} it`],
          ["for", known.role ? `${known.role}s only` : "all who submit"],
        ]}
      />
      <h2 className="section">
        <b>Versions</b> a run keeps the one it was submitted with
      </h2>
      <ul aria-label="Versions">
        {known.versions.map((v: RecipeVersion) => (
          <li key={v.number} className="border-b border-hair py-1.5 text-[12.5px]">
            <button
              type="button"
              className={`num hover:underline ${v.number === known.version ? "font-semibold text-brass" : ""}`}
              aria-current={v.number === known.version}
              onClick={() => onVersion?.(v.number)}
            >
              version {v.number}
            </button>{" "}
            <span className="text-muted">
              {source(v)}, {clock(v.at, now)}
              {v.open_runs > 0 && ` · ${v.open_runs} open ${v.open_runs === 1 ? "run" : "runs"}`}
            </span>
            {v.note && <p className="break-words">{v.note}</p>}
          </li>
        ))}
      </ul>
    </>
  );
}

/** What is wrong with a text, a moment after it was last changed. */
function useCheck(text: string, asked: boolean) {
  const [found, setFound] = useState<{ name: string; mistakes: FileMistake[]; of: string }>({
    name: "",
    mistakes: [],
    of: "",
  });
  useEffect(() => {
    if (!asked) {
      return;
    }
    let late = false;
    const soon = setTimeout(() => {
      checkRecipe(text).then(
        (c) => !late && setFound({ ...c, of: text }),
        () => undefined, // saving tells why
      );
    }, 300);
    return () => {
      late = true;
      clearTimeout(soon);
    };
  }, [text, asked]);
  return {
    name: found.name,
    mistakes: asked ? found.mistakes : [],
    fine: !asked || (found.of === text && found.mistakes.length === 0),
  };
}
