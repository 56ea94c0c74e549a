interface Props {
  label: string;
  ids: number[];
  picked: { has: (id: number) => boolean };
  onPick: (on: boolean) => void;
}

/** The box in the head of a table that picks all that are in it, or none. */
export function PickAll({ label, ids, picked, onPick }: Props) {
  return (
    <input
      type="checkbox"
      className="checkbox checkbox-xs"
      aria-label={label}
      checked={ids.length > 0 && ids.every((id) => picked.has(id))}
      onChange={(event) => onPick(event.target.checked)}
    />
  );
}
