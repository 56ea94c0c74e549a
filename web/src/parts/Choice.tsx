/** A few options side by side, of which one is chosen. */
export function Choice({
  label,
  options,
  chosen,
  onChoose,
}: {
  label: string;
  options: string[];
  chosen: string;
  onChoose: (option: string) => void;
}) {
  return (
    <div className="join" role="group" aria-label={label}>
      {options.map((o) => (
        <button
          type="button"
          key={o}
          className={`btn join-item btn-xs ${o === chosen ? "btn-neutral" : "btn-ghost"}`}
          aria-pressed={o === chosen}
          onClick={() => onChoose(o)}
        >
          {o}
        </button>
      ))}
    </div>
  );
}
