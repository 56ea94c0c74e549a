import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent, type ReactNode } from "react";
import { getPools, type FarmNode, type NodeChange } from "../../api/client";
import { amount } from "../../parts/Gauge";

interface Props {
  node: FarmNode;
  may: boolean;
  onChange: (change: NodeChange, name: string) => void;
}

const gib = 2 ** 30;

/** Traits, pools and caps of a node. */
export function SettingsPart({ node, may, onChange }: Props) {
  const pools = useQuery({ queryKey: ["pools"], queryFn: getPools });
  const s = node.settings;
  const one = { nodes: [node.id] };
  return (
    <>
      <section aria-label="Traits">
        <h2 className="section">
          <b>Traits</b> jobs pick nodes by them
        </h2>
        <ul className="flex flex-wrap gap-1">
          {node.traits.map((t) => {
            const text = t.value === "" ? t.name : `${t.name}=${t.value}`;
            return (
              <Chip key={text} given={t.source === "given"} title={t.source} onDrop={may && t.source === "given" ? () => onChange({ ...one, drop_traits: [t.name] }, "Take it away") : undefined}>
                {text}
              </Chip>
            );
          })}
        </ul>
        {may && <Add label="Give a trait" placeholder="big-memory, or floor=2" onAdd={(text) => onChange({ ...one, add_traits: [text] }, "Give it")} />}
      </section>
      <section aria-label="Pools">
        <h2 className="section">
          <b>Pools</b> {s.pools.length === 0 ? "in none: all projects may use it" : ""}
        </h2>
        <ul className="flex flex-wrap gap-1">
          {s.pools.map((name) => (
            <Chip key={name} given title="pool" onDrop={may ? () => onChange({ ...one, drop_pools: [name] }, "Take it out") : undefined}>
              {name}
            </Chip>
          ))}
        </ul>
        {may && (pools.data ?? []).some((p) => !s.pools.includes(p.name)) && (
          <select className="select mt-2 w-44 select-xs" aria-label="Put into a pool" value="" onChange={(event) => onChange({ ...one, add_pools: [event.target.value] }, "Put it in")}>
            <option value="">put into a pool …</option>
            {(pools.data ?? []).filter((p) => !s.pools.includes(p.name)).map((p) => (
              <option key={p.name}>{p.name}</option>
            ))}
          </select>
        )}
      </section>
      <Caps key={s.version} node={node} may={may} onChange={onChange} />
    </>
  );
}

function Chip({ given, title, onDrop, children }: { given: boolean; title: string; onDrop?: () => void; children: ReactNode }) {
  return (
    <li title={title} className={`num flex items-center gap-1 rounded border px-[6px] text-[11.5px] leading-[18px] ${given ? "border-brass" : "border-hair text-muted"}`}>
      {children}
      {onDrop && (
        <button className="px-[2px] text-muted hover:text-base-content" aria-label={`Take ${String(children)} away`} onClick={onDrop}>
          ×
        </button>
      )}
    </li>
  );
}

function Add({ label, placeholder, onAdd }: { label: string; placeholder: string; onAdd: (text: string) => void }) {
  const [text, setText] = useState("");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (text.trim() !== "") {
      onAdd(text.trim());
      setText("");
    }
  };
  return (
    <form className="mt-2 flex gap-2" onSubmit={submit}>
      <input className="input num w-56 input-xs" aria-label={label} placeholder={placeholder} value={text} onChange={(event) => setText(event.target.value)} />
      <button className="btn btn-xs">{label}</button>
    </form>
  );
}

/** The farm's share of the machine. */
function Caps({ node, may, onChange }: Props) {
  const caps = node.settings.caps;
  const [form, setForm] = useState({ cores: text(caps.cores), memory: text(caps.memory_bytes / gib), staging: text(caps.staging_bytes / gib), nice: text(caps.nice) });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    onChange(
      { nodes: [node.id], caps: { cores: number(form.cores), memory_bytes: Math.round(number(form.memory) * gib), staging_bytes: Math.round(number(form.staging) * gib), nice: number(form.nice) } },
      "Keep these caps",
    );
  };
  const fields: [keyof typeof form, string, string][] = [
    ["cores", "cores", `of ${node.cores}`],
    ["memory", "memory, GiB", `of ${amount(node.memory_bytes)}`],
    ["staging", "staging disk, GiB", "for frames not delivered yet"],
    ["nice", "niceness", "1 to 19; usual is 10"],
  ];
  return (
    <section aria-label="Caps">
      <h2 className="section">
        <b>Caps</b> the farm's share of the machine; empty is all
      </h2>
      <form onSubmit={submit} className="grid grid-cols-2 gap-x-4 gap-y-2">
        {fields.map(([key, name, hint]) => (
          <label key={key} className="text-xs text-muted">
            {name}
            <input className="input num mt-[2px] w-full input-xs" inputMode="decimal" pattern="[0-9]*\.?[0-9]*" disabled={!may} placeholder="all" value={form[key]} onChange={(event) => setForm({ ...form, [key]: event.target.value })} />
            <span className="text-[11px]">{hint}</span>
          </label>
        ))}
        {may && <button className="btn col-span-2 justify-self-end btn-xs">Keep these caps</button>}
      </form>
    </section>
  );
}

const text = (n: number) => (n === 0 ? "" : String(Math.round(n * 100) / 100));
const number = (text: string) => Number(text.trim() === "" ? 0 : text);
