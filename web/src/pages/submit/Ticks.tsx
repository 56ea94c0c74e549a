import type { ReactNode } from "react";

/** Something that is wanted or not, on a line of its own. */
export function Tick({
  on,
  onChange,
  children,
}: {
  on: boolean;
  onChange: (on: boolean) => void;
  children: ReactNode;
}) {
  return (
    <label className="col-span-full flex items-center gap-2 text-[13px]">
      <input
        type="checkbox"
        className="checkbox checkbox-xs"
        checked={on}
        onChange={(e) => onChange(e.target.checked)}
      />
      {children}
    </label>
  );
}

/** Names of which any number is ticked. */
export function Ticks({
  label,
  of,
  ticked,
  help,
  onTick,
}: {
  label: string;
  of: string[];
  ticked: string[];
  help?: (name: string) => string;
  onTick: (ticked: string[]) => void;
}) {
  return (
    <fieldset className="col-span-full min-w-0">
      <legend className="text-xs text-muted">{label}</legend>
      <div className="flex max-h-[132px] flex-wrap gap-x-5 gap-y-0.5 overflow-y-auto">
        {of.map((name) => (
          <label key={name} className="inline-flex items-center gap-2 text-[13px]" title={help?.(name)}>
            <input
              type="checkbox"
              className="checkbox checkbox-xs"
              checked={ticked.includes(name)}
              onChange={(e) =>
                // In the order of the scene, whichever was ticked first.
                onTick(of.filter((n) => (n === name ? e.target.checked : ticked.includes(n))))
              }
            />
            {name}
          </label>
        ))}
      </div>
    </fieldset>
  );
}
