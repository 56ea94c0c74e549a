import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useId, useState } from "react";
import {
  getProjects,
  getTrial,
  ownProject,
  type RecipeTrial,
  stopTrial,
  type TrialLine,
  tryRecipe,
} from "../../api/client";
import { useFarm } from "../../api/live";
import { Field } from "../../parts/Field";

interface TryItProps {
  text: string; // of the recipe, as it is written now
  name: string;
  fine: boolean; // it has no mistakes
}

/** Renders a frame by a recipe that is not saved yet, on a node, and shows how its
 * output is understood. */
export function TryIt({ text, name, fine }: TryItProps) {
  const [id, setId] = useState("");
  const [problem, setProblem] = useState("");
  const trial = useQuery({
    queryKey: ["trial", id],
    queryFn: () => getTrial(id),
    enabled: id !== "",
    refetchInterval: (q) => (q.state.data && over(q.state.data) ? false : 700),
  });
  const begin = (wanted: Parameters<typeof tryRecipe>[0]) => {
    setProblem("");
    tryRecipe({ ...wanted, text }).then(
      (begun) => setId(begun.id),
      (error: Error) => setProblem(error.message),
    );
  };
  const under = id !== "" && !(trial.data && over(trial.data)) && !trial.isError;
  return (
    <section aria-label="Try it">
      <h2 className="section">
        <b>Try it</b> on a node, with the text above; nothing is delivered
      </h2>
      <Wanted name={name} can={fine && !under} begin={begin} />
      {under && (
        <button type="button" className="btn mt-2 btn-xs" onClick={() => void stopTrial(id).catch(() => undefined)}>
          Stop it
        </button>
      )}
      {!fine && <p className="mt-1 text-xs text-muted">The text has mistakes; mend them first.</p>}
      {(problem || trial.isError) && (
        <p role="alert" className="mt-2 text-failed">
          ✕ {problem || trial.error?.message}
        </p>
      )}
      {trial.data && <Result of={trial.data} />}
    </section>
  );
}

const over = (t: RecipeTrial) => t.state === "done" || t.state === "failed";

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

function Result({ of }: { of: RecipeTrial }) {
  return (
    <div className="mt-3" aria-live="polite">
      <p className="text-[13px]">
        {!over(of) && `${of.recipe} is being tried on ${of.node} …`}
        {of.error && <span className="text-failed">✕ {of.error}</span>}
      </p>
      <div className="flex flex-wrap gap-4">
        {of.picture && (
          <img
            className="h-auto max-w-[240px] self-start rounded border border-hair"
            alt={`The first frame, tried on ${of.node}`}
            src={`data:image/jpeg;base64,${of.picture}`}
          />
        )}
        <ul className="min-w-[240px] flex-1 text-[13px]" aria-label="Frames">
          {of.frames.map((f) => (
            <li key={f.frame} className="border-b border-hair py-1">
              <span className={f.good ? "text-done" : "text-failed"}>
                {f.good ? "✓" : "✕"} frame {f.frame}
              </span>{" "}
              <span className="text-muted">
                {f.good
                  ? `${of.width > 0 ? `${of.width} × ${of.height}, ` : ""}rendered in ${f.render_seconds.toFixed(1)} s${
                      f.startup_seconds >= 0.05 ? `, after ${f.startup_seconds.toFixed(1)} s to start` : ""
                    }${f.passes.length > 0 ? `; with ${f.passes.join(", ")}` : ""}`
                  : `${f.cause}: ${f.message.split("\n")[0]}`}
              </span>
              {f.layers.map((l) => (
                <p key={l} className="num text-[11.5px] text-muted">
                  {l}
                </p>
              ))}
              {f.warning && <p className="text-brass">suspect: {f.warning}</p>}
            </li>
          ))}
          {over(of) && of.frames.length === 0 && !of.error && (
            <li className="text-failed">Nothing came of it: no frame has begun or was left behind.</li>
          )}
          {of.notes.map((n) => (
            <li key={n} className="py-1 text-brass">
              {n}
            </li>
          ))}
        </ul>
      </div>
      {of.lines.length > 0 && <Lines all={of.lines} failed={of.state === "failed"} />}
    </div>
  );
}

/** How many lines in a row that told nothing are shown at once. */
const quietRow = 6;

/** The lines in parts: those that told something, and rows of those that did not. */
function parts(all: TrialLine[]): TrialLine[][] {
  const out: TrialLine[][] = [];
  for (const l of all) {
    const last = out.at(-1);
    if (last && isQuiet(l) && isQuiet(last[0])) {
      last.push(l);
    } else {
      out.push([l]);
    }
  }
  return out;
}

const isQuiet = (l: TrialLine) => !l.launch && l.meaning === "";

/** What the renderer was launched with and said, each line with what it was taken for. */
function Lines({ all, failed }: { all: TrialLine[]; failed: boolean }) {
  const rows = parts(all);
  return (
    <div
      role="log"
      aria-label="What the renderer said"
      className="num mt-3 max-h-[320px] overflow-auto rounded border border-hair p-2 text-[11.5px] leading-[1.45]"
    >
      {rows.map((part, i) =>
        part.length > quietRow ? (
          // What was said last may tell why it failed.
          <details key={i} open={failed && i === rows.length - 1}>
            <summary className="cursor-pointer text-muted">{part.length} lines that told nothing</summary>
            {part.map((l, k) => (
              <Line key={k} of={l} />
            ))}
          </details>
        ) : (
          part.map((l, k) => <Line key={`${i}.${k}`} of={l} />)
        ),
      )}
    </div>
  );
}

function Line({ of: l }: { of: TrialLine }) {
  return (
    <p className={l.launch ? "break-all font-semibold" : "whitespace-pre-wrap break-words"}>
      {l.launch && <span className="font-normal text-muted">launch </span>}
      {l.text}
      {l.meaning && <span className="block pl-4 text-brass">↑ {l.meaning}</span>}
    </p>
  );
}
