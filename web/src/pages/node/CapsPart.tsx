import { type FormEvent, useState } from "react";
import { amount } from "../../parts/Gauge";
import type { SettingsProps } from "./SettingsPart";

const gib = 2 ** 30;

/** The farm's share of the machine. */
export function CapsPart({ node, may, onChange }: SettingsProps) {
  const caps = node.settings.caps;
  const [kept, setKept] = useState<ReadonlySet<string>>(new Set(caps.kept_devices));
  const [form, setForm] = useState(() => formOf(caps));
  const [base, setBase] = useState(caps); // that the form was begun with
  const changed = JSON.stringify(form) !== JSON.stringify(formOf(base)) || !sameSet(kept, new Set(base.kept_devices));
  const elsewhere = JSON.stringify(caps) !== JSON.stringify(base);
  const take = () => {
    setBase(caps);
    setForm(formOf(caps));
    setKept(new Set(caps.kept_devices));
  };
  const same = JSON.stringify(form) === JSON.stringify(formOf(caps)) && sameSet(kept, new Set(caps.kept_devices));
  if (elsewhere && (!changed || same)) take();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onChange(
      {
        nodes: [node.id],
        caps: {
          cores: number(form.cores),
          memory_bytes: bytes(form.memory),
          leases: number(form.leases),
          spare_bytes: bytes(form.spare),
          staging_bytes: bytes(form.staging),
          nice: number(form.nice),
          kept_devices: [...kept],
        },
      },
      "Keep these caps",
    );
  };
  const over = beyond(form, node);
  const fields: [keyof typeof form, string, string, string][] = [
    ["cores", "cores", `of ${node.cores}`, "all"],
    ["memory", "memory, GiB", `of ${amount(node.memory_bytes)}`, "all"],
    ["leases", "leases side by side", "at most", "as fit"],
    ["spare", "memory kept free, GiB", "beside a first lease", "usual"],
    ["staging", "staging disk, GiB", "for frames not delivered yet", "all"],
    ["nice", "niceness", "1 to 19", "10"],
  ];
  const keep = (id: string, on: boolean) =>
    setKept((old) => {
      const next = new Set(old);
      if (on) {
        next.add(id);
      } else {
        next.delete(id);
      }
      return next;
    });
  return (
    <section aria-label="Caps">
      <h2 className="section">
        <b>Caps</b> the farm's share of the machine
      </h2>
      <form onSubmit={submit} className="grid grid-cols-2 gap-x-4 gap-y-2 sm:grid-cols-3">
        {fields.map(([key, name, hint, none]) => (
          <label key={key} className="text-xs text-muted">
            {name}
            <input
              className="input num mt-[2px] w-full input-xs"
              inputMode="decimal"
              pattern="[0-9]*\.?[0-9]*"
              disabled={!may}
              placeholder={none}
              value={form[key]}
              onChange={(event) => setForm({ ...form, [key]: event.target.value })}
            />
            <span className="text-[11px]">{hint}</span>
          </label>
        ))}
        {node.devices.length > 0 && (
          <fieldset className="col-span-full text-xs text-muted" disabled={!may}>
            <legend>graphics devices for the farm</legend>
            {node.devices.map((d) => (
              <label key={d.id} className="mr-4 inline-flex items-center gap-1">
                <input
                  type="checkbox"
                  className="checkbox checkbox-xs"
                  checked={!kept.has(d.id)}
                  onChange={(event) => keep(d.id, !event.target.checked)}
                />
                {d.model} <span className="num">{d.id}</span>
              </label>
            ))}
          </fieldset>
        )}
        {over.length > 0 && (
          <p role="status" className="col-span-full text-xs text-held">
            <span aria-hidden="true">! </span>
            {over.join(" ")}
          </p>
        )}
        {elsewhere && changed && (
          <p role="status" className="col-span-full text-xs text-held">
            Somebody changed these caps while you were typing.{" "}
            <button type="button" className="underline" onClick={take}>
              Show theirs
            </button>
          </p>
        )}
        {may && (
          <button type="submit" className="btn col-span-full justify-self-end btn-xs">
            Keep these caps
          </button>
        )}
      </form>
    </section>
  );
}

const sameSet = (a: ReadonlySet<string>, b: ReadonlySet<string>) => a.size === b.size && [...a].every((x) => b.has(x));

const formOf = (caps: SettingsProps["node"]["settings"]["caps"]) => ({
  cores: text(caps.cores),
  memory: text(caps.memory_bytes / gib),
  leases: text(caps.leases),
  spare: text(caps.spare_bytes / gib),
  staging: text(caps.staging_bytes / gib),
  nice: text(caps.nice),
});

/** What of the caps is more than the machine has. */
function beyond(
  form: { cores: string; memory: string; spare: string; staging: string },
  node: SettingsProps["node"],
): string[] {
  const out: string[] = [];
  if (number(form.cores) > node.cores) {
    out.push(
      `The machine has ${node.cores === 1 ? "1 core" : `${node.cores} cores`}: a cap of ${form.cores} has no effect.`,
    );
  }
  if (node.memory_bytes > 0 && bytes(form.memory) > node.memory_bytes) {
    out.push(`It has ${amount(node.memory_bytes)} of memory: a cap of ${form.memory} GiB has no effect.`);
  }
  if (node.memory_bytes > 0 && bytes(form.spare) >= node.memory_bytes) {
    out.push(`With ${form.spare} GiB of ${amount(node.memory_bytes)} kept free, no lease ever fits.`);
  }
  return out;
}

const text = (n: number) => (n === 0 ? "" : String(Math.round(n * 100) / 100));
const number = (text: string) => Number(text.trim() === "" ? 0 : text);
const bytes = (text: string) => Math.round(number(text) * gib);
