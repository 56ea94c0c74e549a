import { look } from "./states";

/** A state as sign, word and colour. */
export function StateWord({ state }: { state: string }) {
  const { colour, sign } = look[state] ?? { colour: "var(--muted)", sign: "·" };
  return (
    <span style={{ color: colour }} className="whitespace-nowrap font-semibold">
      <span aria-hidden="true">{sign}</span> {state}
    </span>
  );
}
