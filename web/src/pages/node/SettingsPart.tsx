import { useQuery } from "@tanstack/react-query";
import { type FormEvent, memo, type ReactNode, useState } from "react";
import { type FarmNode, getPools, type NodeChange } from "../../api/client";
import { CapsPart } from "./CapsPart";

export interface SettingsProps {
  node: Pick<FarmNode, "id" | "settings" | "traits" | "devices" | "cores" | "memory_bytes" | "disk_bytes">;
  may: boolean;
  onChange: (change: NodeChange, name: string) => void;
}

/** Traits, pools and caps of a node. */
export const SettingsPart = memo(
  SettingsView,
  (a, b) =>
    a.may === b.may &&
    a.onChange === b.onChange &&
    a.node.id === b.node.id &&
    a.node.settings === b.node.settings &&
    a.node.traits === b.node.traits &&
    a.node.devices === b.node.devices &&
    a.node.memory_bytes === b.node.memory_bytes,
);

function SettingsView({ node, may, onChange }: SettingsProps) {
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
              <Chip
                key={text}
                given={t.source === "given"}
                title={t.source}
                onDrop={
                  may && t.source === "given"
                    ? () => onChange({ ...one, drop_traits: [t.name] }, "Take it away")
                    : undefined
                }
              >
                {text}
              </Chip>
            );
          })}
        </ul>
        {may && (
          <Add
            label="Give a trait"
            placeholder="big-memory, or floor=2"
            there={node.traits.map((t) => (t.value === "" ? t.name : `${t.name}=${t.value}`))}
            onAdd={(text) => onChange({ ...one, add_traits: [text] }, "Give it")}
          />
        )}
      </section>
      <section aria-label="Pools">
        <h2 className="section">
          <b>Pools</b> {s.pools.length === 0 ? "in none: all projects may use it" : ""}
        </h2>
        <ul className="flex flex-wrap gap-1">
          {s.pools.map((name) => (
            <Chip
              key={name}
              given
              title="pool"
              onDrop={may ? () => onChange({ ...one, drop_pools: [name] }, "Take it out") : undefined}
            >
              {name}
            </Chip>
          ))}
        </ul>
        {may && (pools.data ?? []).some((p) => !s.pools.includes(p.name)) && (
          <select
            className="select mt-2 w-44 select-xs"
            aria-label="Put into a pool"
            value=""
            onChange={(event) => onChange({ ...one, add_pools: [event.target.value] }, "Put it in")}
          >
            <option value="">put into a pool …</option>
            {(pools.data ?? [])
              .filter((p) => !s.pools.includes(p.name))
              .map((p) => (
                <option key={p.name}>{p.name}</option>
              ))}
          </select>
        )}
      </section>
      <CapsPart key={node.id} node={node} may={may} onChange={onChange} />
    </>
  );
}

function Chip({
  given,
  title,
  onDrop,
  children,
}: {
  given: boolean;
  title: string;
  onDrop?: () => void;
  children: ReactNode;
}) {
  return (
    <li
      title={title}
      className={`num flex max-w-full min-h-6 items-center gap-1 rounded border pl-[6px] ${onDrop ? "" : "pr-[6px]"} break-all text-[11.5px] leading-[18px] ${given ? "border-brass" : "border-hair text-muted"}`}
    >
      {children}
      {onDrop && (
        <button
          type="button"
          className="min-h-6 min-w-6 text-muted hover:text-base-content"
          aria-label={`Take ${String(children)} away`}
          onClick={onDrop}
        >
          ×
        </button>
      )}
    </li>
  );
}

/** A text to add; it stays until it is there, so that one which is refused can be corrected. */
function Add({
  label,
  placeholder,
  there,
  onAdd,
}: {
  label: string;
  placeholder: string;
  there: string[];
  onAdd: (text: string) => void;
}) {
  const [text, setText] = useState("");
  const [asked, setAsked] = useState("");
  if (asked !== "" && text.trim() === asked && there.includes(asked)) {
    setText("");
    setAsked("");
  }
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (text.trim() !== "") {
      onAdd(text.trim());
      setAsked(text.trim());
    }
  };
  return (
    <form className="mt-2 flex gap-2" onSubmit={submit}>
      <input
        className="input num w-56 input-xs"
        aria-label={label}
        placeholder={placeholder}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <button type="submit" className="btn btn-xs">
        {label}
      </button>
    </form>
  );
}
