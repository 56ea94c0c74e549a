import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import {
  choosePreset,
  dropPreset,
  getPresets,
  getProjects,
  getRecipes,
  isWrangler,
  leads,
  type Me,
  type Preset,
  setPreset,
} from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { useKeep } from "./keep";
import { lookAgain, useFound } from "./Part";

const skeleton = "values: {quality: 9}\nproof: {every: 12, scale: 50%}\n";

/** Named settings that jobs take over. */
export function PresetsPart({ me }: { me: Me }) {
  const presets = useQuery({ queryKey: ["presets"], queryFn: getPresets, refetchInterval: lookAgain });
  const { shown, more } = useFound(presets.data, (p) => [p.name, p.project, p.recipe]);
  const keep = useKeep("presets");
  const [open, setOpen] = useState<Preset | null>(null);
  const [dropping, setDropping] = useState<Preset | null>(null);
  return (
    <section aria-label="Presets" id="presets" className="scroll-mt-3">
      <h2 className="section flex items-baseline gap-2">
        <b>Presets</b> settings that jobs take over
        <button
          type="button"
          className="btn ml-auto btn-xs"
          onClick={() =>
            setOpen({
              project: isWrangler(me) ? "" : (me.leads[0] ?? ""),
              recipe: "",
              name: "",
              text: skeleton,
              mine: false,
              dropped: false,
              etag: "",
              versions: [],
            })
          }
        >
          New preset
        </button>
      </h2>
      {presets.isError && <p className="text-failed">{presets.error.message}</p>}
      {presets.data?.length === 0 && <p className="text-[13px] text-muted">There is none yet.</p>}
      <ul>
        {shown.map((p: Preset) => (
          <li
            key={`${p.project}/${p.recipe}/${p.name}`}
            className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-4 border-b border-hair py-2 sm:grid-cols-[180px_minmax(0,1fr)_auto]"
          >
            <button
              type="button"
              className="truncate text-left font-semibold hover:underline"
              title={p.text}
              onClick={() => setOpen(p)}
            >
              {p.name}
            </button>
            <span className="truncate text-xs text-muted max-sm:order-last max-sm:col-span-2">
              {p.project ? `of ${p.project}` : "of any project"}
              {p.recipe && `, ${p.recipe}`} · version <span className="num">{p.versions[0]?.number}</span>
              {p.versions[0] && ` by ${p.versions[0].by}`}
            </span>
            <span className="flex items-center gap-2">
              <label
                className="flex items-center gap-1 text-xs text-muted"
                title="own runs get it where nothing is said"
              >
                <input
                  type="checkbox"
                  className="checkbox checkbox-xs"
                  checked={p.mine}
                  onChange={(e) =>
                    void keep(
                      () => choosePreset(p, e.target.checked ? p.name : ""),
                      e.target.checked
                        ? `Your runs get ${p.name} where nothing is said.`
                        : "Your runs get no preset by themselves.",
                    )
                  }
                />
                mine
              </label>
              {leads(me, p.project) && (
                <button type="button" className="btn btn-xs" onClick={() => setDropping(p)}>
                  Drop
                </button>
              )}
            </span>
          </li>
        ))}
      </ul>
      {more}
      {open && (
        <Edit
          key={open.etag + open.name}
          of={open}
          me={me}
          onKeep={(preset, text) => keep(() => setPreset(preset, text), `${preset.name} is kept; new runs get it.`)}
          onClose={() => setOpen(null)}
        />
      )}
      {dropping && (
        <Confirm
          title={`Drop the preset ${dropping.name}`}
          yes="Drop it"
          danger
          onYes={() => keep(() => dropPreset(dropping), `${dropping.name} is dropped.`)}
          onNo={() => setDropping(null)}
        >
          No new run can have it. Runs that have it keep what it said.
        </Confirm>
      )}
    </section>
  );
}

interface EditProps {
  of: Preset;
  me: Me;
  onKeep: (preset: Preset, text: string) => Promise<boolean>;
  onClose: () => void;
}

function Edit({ of, me, onKeep, onClose }: EditProps) {
  const [form, setForm] = useState(of);
  const projects = useQuery({ queryKey: ["projects"], queryFn: getProjects });
  const recipes = useQuery({ queryKey: ["recipes", "usable"], queryFn: () => getRecipes(false) });
  const fresh = of.etag === "";
  const submit = async (event: FormEvent) => {
    event.preventDefault();
    if (await onKeep({ ...form, name: form.name.trim() }, form.text)) {
      onClose();
    }
  };
  return (
    <form onSubmit={(e) => void submit(e)} className="mt-3 border border-hair bg-base-200 p-3" aria-label="Preset">
      <div className="flex flex-wrap items-end gap-3">
        {fresh ? (
          <>
            <input
              className="input w-44 input-sm"
              aria-label="Name of the preset"
              placeholder="name"
              value={form.name}
              onChange={(e) => setForm({ ...form, name: e.target.value })}
            />
            <select
              className="select w-44 select-sm"
              aria-label="Project"
              value={form.project}
              onChange={(e) => setForm({ ...form, project: e.target.value })}
            >
              {isWrangler(me) && <option value="">any project</option>}
              {projects.data
                ?.filter((p) => leads(me, p.name))
                .map((p) => (
                  <option key={p.name}>{p.name}</option>
                ))}
            </select>
            <select
              className="select w-44 select-sm"
              aria-label="Recipe"
              value={form.recipe}
              onChange={(e) => setForm({ ...form, recipe: e.target.value })}
            >
              <option value="">any recipe</option>
              {recipes.data?.map((r) => (
                <option key={r.name}>{r.name}</option>
              ))}
            </select>
          </>
        ) : (
          <b className="font-semibold">{of.name}</b>
        )}
        <span className="grow" />
        <button type="button" className="btn btn-sm" onClick={onClose}>
          Close
        </button>
        {leads(me, form.project) && (
          <button type="submit" className="btn btn-sm btn-primary" disabled={form.name.trim() === ""}>
            Keep it
          </button>
        )}
      </div>
      <textarea
        className="textarea num mt-2 h-36 w-full text-xs"
        aria-label="Settings of the preset"
        spellCheck={false}
        value={form.text}
        onChange={(e) => setForm({ ...form, text: e.target.value })}
      />
    </form>
  );
}
