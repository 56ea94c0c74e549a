import { useState } from "react";

const time = /^([01]?\d|2[0-3]):([0-5]\d)$/;

/** A time of day in 24 hours, in any browser language. onChange gets complete times only; empty means none. */
export function TimeOfDay({
  value,
  onChange,
  className = "input input-sm w-full",
  label,
}: {
  value: string;
  onChange: (value: string) => void;
  className?: string;
  label?: string;
}) {
  const [typed, setTyped] = useState<string | null>(null);
  const wrong = typed !== null && typed !== "" && !time.test(typed);
  return (
    <input
      className={`num ${className}`}
      inputMode="numeric"
      placeholder="hh:mm"
      maxLength={5}
      aria-label={label}
      aria-invalid={wrong}
      value={typed ?? value}
      onChange={(event) => {
        const text = event.target.value;
        setTyped(text);
        const found = time.exec(text);
        if (found && (found[1].length === 2 || text.length === 5)) {
          onChange(`${found[1].padStart(2, "0")}:${found[2]}`);
        } else if (text === "") {
          onChange("");
        }
      }}
      onBlur={() => {
        const found = typed === null ? null : time.exec(typed);
        if (found) onChange(`${found[1].padStart(2, "0")}:${found[2]}`);
        setTyped(null);
      }}
    />
  );
}
