import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import { getPools, isWrangler, levels, type Me, Problem, type Scene, submitJobs } from "../../api/client";
import { useFarm } from "../../api/live";
import { Choice } from "../../parts/Choice";
import { useDebounced } from "../../parts/debounced";
import { Field } from "../../parts/Field";
import { countFrames, parts } from "../../parts/frames";
import { NamesInput } from "../../parts/NamesInput";
import { names } from "../../parts/names";
import { natural } from "../../parts/order";
import { zone } from "../../parts/time";
import { EstimatePart } from "./EstimatePart";
import { byField, type Change, type Form, firstForm, formKey, jobFile, keepForm, keptForm, sameForm } from "./form";
import { PreflightPart } from "./PreflightPart";
import { RangePainter } from "./RangePainter";
import { ReceiptPart } from "./ReceiptPart";
import { Tick, Ticks } from "./Ticks";

const grid = "grid grid-cols-2 gap-x-4 gap-y-3 sm:grid-cols-4";
const input = "input input-sm w-full";

/** All that may be chosen for a scene, with the receipt that would come beside it. It is
 * checked as it is typed, by the rules by which it will be taken. */
export function FormPart({ me, project, scene }: { me: Me; project: string; scene: Scene }) {
  const key = formKey(me.name, project, scene);
  const [form, setForm] = useState<Form>(() => keptForm(key, scene));
  const untouched = sameForm(form, firstForm(scene));
  useEffect(() => keepForm(key, untouched ? null : form), [key, form, untouched]);
  const change: Change = useCallback((changes) => setForm((old) => ({ ...old, ...changes })), []);
  const text = useMemo(() => jobFile(form, project, scene), [form, project, scene]);
  const settled = useDebounced(`${form.proof ? "proof" : ""}\n${text}`, 350);
  const said = settled === `${form.proof ? "proof" : ""}\n${text}`;
  const receipt = useQuery({
    queryKey: ["receipt", settled],
    queryFn: () => submitJobs({ text, proof: form.proof, dry_run: true }),
    retry: false,
    gcTime: 0,
    enabled: said,
    placeholderData: keepPreviousData,
  });
  const fresh = said && !receipt.isFetching;
  const wrong = receipt.error instanceof Problem && fresh ? byField(receipt.error.mistakes) : new Map<string, string>();
  const ready = fresh && receipt.isSuccess;
  const props = { form, change, scene, wrong };
  return (
    <>
      <div className="mt-3 grid grid-cols-1 gap-x-8 gap-y-2 lg:grid-cols-[minmax(0,1fr)_400px]">
        <div className="min-w-0">
          <What {...props} project={project} />
          <Picture {...props} />
          <Where {...props} me={me} project={project} />
        </div>
        <div className="min-w-0 lg:sticky lg:top-3 lg:self-start">
          <ReceiptPart
            text={text}
            proof={form.proof}
            receipts={receipt.data}
            error={fresh ? receipt.error : null}
            fresh={fresh}
            onDone={() => keepForm(key, null)}
            onClear={untouched ? null : () => setForm(firstForm(scene))}
          />
          <EstimatePart text={text} proof={form.proof} ready={ready} />
        </div>
      </div>
      <PreflightPart
        text={text}
        proof={form.proof}
        ready={ready}
        onWithout={(failing) => change({ without: [...new Set([...names(form.without), ...failing])].join(", ") })}
      />
      <details className="mt-4">
        <summary className="cursor-pointer text-[13px] text-muted">The same as a job file</summary>
        <pre className="num mt-2 overflow-x-auto border border-hair bg-base-200 p-3 text-xs">{text}</pre>
      </details>
    </>
  );
}

interface PartProps {
  form: Form;
  change: Change;
  scene: Scene;
  wrong: Map<string, string>;
}

/** What is rendered: the frames, as a proof or as the final. */
function What({ form, change, scene, wrong, project }: PartProps & { project: string }) {
  const name = form.name.trim() || scene.job;
  const runs = useFarm().data?.runs ?? [];
  const before = runs
    .filter((r) => r.job === name && r.project === project && r.scene === scene.scene)
    .sort((a, b) => b.id - a.id)[0];
  const shot = form.shot.trim() || scene.shot;
  const mine = scene.presets.find((p) => p.mine);
  return (
    <section aria-label="Frames">
      <h2 className="section flex items-center gap-3">
        <b>Frames</b>
        <Choice
          label="Proof or final"
          options={["final", "proof first"]}
          chosen={form.proof ? "proof first" : "final"}
          onChoose={(o) => change({ proof: o !== "final" })}
        />
        {form.proof && <span>some frames, smaller; the final is one button later</span>}
      </h2>
      <div className={grid}>
        <Field name="job" wrong={wrong.get("name")}>
          <input
            className={input}
            placeholder={scene.job}
            name="name"
            value={form.name}
            onChange={(e) => change({ name: e.target.value })}
          />
        </Field>
        <Field name="preset" wrong={wrong.get("preset")}>
          <select
            className="select w-full select-sm"
            value={form.preset}
            onChange={(e) => change({ preset: e.target.value })}
          >
            <option value="">{mine ? `yours: ${mine.name}` : "none is chosen"}</option>
            {scene.presets.map((p) => (
              <option key={p.name} value={p.name}>
                {p.name}, version {p.version}
              </option>
            ))}
            {mine && <option value="none">none</option>}
          </select>
        </Field>
        <Field name="frames" wrong={wrong.get("frames")}>
          <input
            className={`${input} num`}
            placeholder={shot ? `all of ${shot}` : "such as 1-120"}
            name="frames"
            value={form.frames}
            onChange={(e) => change({ frames: e.target.value })}
          />
        </Field>
        <Field name="all frames of the shot" wrong={wrong.get("shot")}>
          <input
            className={`${input} num`}
            placeholder={
              scene.shot ? `${scene.shot}, ${scene.file ? "as the scene says" : "as its last run"}` : "such as 1-120"
            }
            name="shot"
            value={form.shot}
            onChange={(e) => change({ shot: e.target.value })}
          />
        </Field>
        {form.proof && (
          <>
            <Field name="proof: one frame in" wrong={wrong.get("proof")}>
              <input
                className={`${input} num`}
                placeholder="as the preset says"
                name="every"
                value={form.every}
                onChange={(e) => change({ every: e.target.value })}
              />
            </Field>
            <Field name="proof: part of the size">
              <input
                className={`${input} num`}
                placeholder="as the preset says"
                name="proofScale"
                value={form.proofScale}
                onChange={(e) => change({ proofScale: e.target.value })}
              />
            </Field>
          </>
        )}
        {parts(shot).length === 1 && (
          <>
            <RangePainter shot={shot} frames={form.frames} before={before} onFrames={(frames) => change({ frames })} />
            <Quick shot={shot} onFrames={(frames) => change({ frames })} />
          </>
        )}
      </div>
    </section>
  );
}

/** Ranges that are often wanted. */
function Quick({ shot, onFrames }: { shot: string; onFrames: (frames: string) => void }) {
  const { first, last } = parts(shot)[0];
  const middle = Math.floor((first + last) / 2);
  const three = [...new Set([first, middle, last])].join(",");
  return (
    <div className="col-span-full -mt-1 flex gap-2">
      <button type="button" className="btn btn-xs" onClick={() => onFrames("")}>
        all
      </button>
      <button type="button" className="btn btn-xs" title="first, middle and last" onClick={() => onFrames(three)}>
        three
      </button>
      <button type="button" className="btn btn-xs" onClick={() => onFrames(`${shot}/10`)} disabled={last - first < 10}>
        every 10th
      </button>
    </div>
  );
}

/** How it is rendered: size, cameras, layers, passes, and the settings of the recipe. */
function Picture({ form, change, scene, wrong }: PartProps) {
  const set = (name: string, value: string) => change({ values: { ...form.values, [name]: value } });
  const ticked = (name: string) =>
    (name === "camera" && scene.cameras.length > 0) || (name === "layer" && scene.layers.length > 0);
  const still = countFrames((form.frames.trim() || form.shot.trim() || scene.shot).replace(/\s/g, "")) === 1;
  return (
    <section aria-label="Picture">
      <h2 className="section">
        <b>Picture</b> what is left empty is as the scene, the preset and the recipe say
      </h2>
      <div className={grid}>
        <Field name="size" wrong={wrong.get("size")}>
          <input
            className={`${input} num`}
            placeholder={scene.width > 0 ? `${scene.width}x${scene.height}, as the scene says` : "such as 1920x1080"}
            name="size"
            value={form.size}
            onChange={(e) => change({ size: e.target.value.replace("×", "x") })}
          />
        </Field>
        <Field name="part of that size" wrong={wrong.get("scale")}>
          <input
            className={`${input} num`}
            placeholder="100%"
            name="scale"
            value={form.scale}
            onChange={(e) => change({ scale: e.target.value })}
          />
        </Field>
        {(still || form.oneByOne) && (
          <>
            <Field name="tiles" wrong={wrong.get("tiles")}>
              <input
                className={`${input} num`}
                placeholder="none, or 4x3 or by-speed"
                name="tiles"
                value={form.tiles}
                onChange={(e) => change({ tiles: e.target.value })}
              />
            </Field>
            <Field name="their overlap, pixels" wrong={wrong.get("overlap")}>
              <input
                className={`${input} num`}
                placeholder="0"
                name="overlap"
                value={form.overlap}
                onChange={(e) => change({ overlap: e.target.value })}
              />
            </Field>
          </>
        )}
        {!still && form.frames.trim() !== "" && (
          <Tick on={form.oneByOne} onChange={(oneByOne) => change({ oneByOne })}>
            divide each of these frames over nodes in tiles, one frame after the other
          </Tick>
        )}
        {(still || form.oneByOne) && form.tiles.trim() !== "" && (
          <Tick on={form.dropTiles} onChange={(dropTiles) => change({ dropTiles })}>
            remove the tiles once the picture is put together
          </Tick>
        )}
        {scene.cameras.length > 0 && (
          <Ticks
            label="cameras; a run each with a folder of its own where several are ticked"
            of={scene.cameras}
            ticked={form.cameras}
            onTick={(cameras) => change({ cameras })}
          />
        )}
        {scene.layers.length > 0 && (
          <Ticks
            label="layers; a run each where several are ticked"
            of={scene.layers}
            ticked={form.layers}
            onTick={(layers) => change({ layers })}
          />
        )}
        {scene.passes.length > 0 && (
          <Ticks
            label="passes beside the picture"
            of={scene.passes.map((p) => p.name)}
            ticked={form.passes}
            help={(name) => scene.passes.find((p) => p.name === name)?.help ?? ""}
            onTick={(passes) => change({ passes })}
          />
        )}
        {scene.values
          .filter((v) => !ticked(v.name))
          .map((v) => (
            <Field key={v.name} name={<span title={v.help}>{v.name}</span>}>
              {v.choices.length > 0 ? (
                <select
                  className="select w-full select-sm"
                  title={v.help}
                  value={form.values[v.name] ?? ""}
                  onChange={(e) => set(v.name, e.target.value)}
                >
                  <option value="">{v.default || "–"}</option>
                  {v.choices
                    .filter((c) => c !== v.default)
                    .map((c) => (
                      <option key={c}>{c}</option>
                    ))}
                </select>
              ) : (
                <input
                  className={`${input} num`}
                  title={v.help}
                  placeholder={v.default || (v.needed ? "must be given" : "")}
                  value={form.values[v.name] ?? ""}
                  onChange={(e) => set(v.name, e.target.value)}
                />
              )}
            </Field>
          ))}
        {wrong.has("values") && (
          <p role="alert" className="col-span-full text-xs text-failed">
            ✕ {wrong.get("values")}
          </p>
        )}
      </div>
    </section>
  );
}

/** Where and when it is rendered, and before whom. */
function Where({ form, change, wrong, me, project }: PartProps & { me: Me; project: string }) {
  const farm = useFarm().data;
  const pools = useQuery({ queryKey: ["pools"], queryFn: getPools });
  const nodes = useMemo(() => (farm?.nodes ?? []).map((n) => n.name).sort(natural), [farm]);
  const open = useMemo(
    () =>
      (farm?.runs ?? [])
        .filter((r) => r.project === project && r.ended_at === null)
        .map((r) => r.name)
        .sort(natural),
    [farm, project],
  );
  const listed = (field: "nodes" | "without" | "pools" | "after", name: string, of: string[]) => (
    <Field name={name} wrong={wrong.get(field)}>
      <NamesInput
        field={field}
        value={form[field]}
        of={of}
        placeholder="names, with commas"
        onChange={(value) => change({ [field]: value })}
      />
    </Field>
  );
  const written = (field: "needs" | "ceiling" | "tries" | "output", name: string, placeholder: string) => (
    <Field name={name} wrong={wrong.get(field)}>
      <input
        className={`${input} num`}
        placeholder={placeholder}
        name={field}
        value={form[field]}
        onChange={(e) => change({ [field]: e.target.value })}
      />
    </Field>
  );
  return (
    <section aria-label="Farm">
      <h2 className="section">
        <b>Farm</b> who may render it, and before whom
      </h2>
      <div className={grid}>
        <Field name="priority" wrong={wrong.get("priority")}>
          <select
            className="select w-full select-sm"
            value={form.priority || "normal"}
            onChange={(e) => change({ priority: e.target.value === "normal" ? "" : e.target.value })}
          >
            {levels
              .filter((l) => l !== "urgent" || isWrangler(me))
              .map((l) => (
                <option key={l}>{l}</option>
              ))}
          </select>
        </Field>
        <Field name={`due, in ${zone()}`} wrong={wrong.get("due")}>
          <input
            className={`${input} num`}
            type="datetime-local"
            value={form.due}
            onChange={(e) => change({ due: e.target.value })}
          />
        </Field>
        {written("ceiling", "most nodes at once", "a number, or 50%")}
        {written("tries", "tries a frame", "3")}
        <Field name="held after failed frames" wrong={wrong.get("hold_after")}>
          <input
            className={`${input} num`}
            placeholder="as the farm judges"
            name="hold_after"
            value={form.holdAfter}
            onChange={(e) => change({ holdAfter: e.target.value })}
          />
        </Field>
        {listed("nodes", "only these nodes", nodes)}
        {listed("without", "not these nodes", nodes)}
        {listed("pools", "only these pools", pools.data?.map((p) => p.name) ?? [])}
        {written("needs", "needs", "such as memory >= 16 GiB")}
        {written("output", "output folder", "as the job is called")}
        {listed("after", "waits for", open)}
        <label className="col-span-2 flex items-center gap-2 self-end pb-1 text-[13px]">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={form.held}
            onChange={(e) => change({ held: e.target.checked })}
          />
          held until somebody releases it
        </label>
      </div>
    </section>
  );
}
