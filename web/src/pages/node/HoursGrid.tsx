import { useRef, type KeyboardEvent } from "react";
import { cells, dayNames, type Week } from "./week";

const shownDays = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const time = (cell: number) => `${String(Math.floor(cell / 2) % 24).padStart(2, "0")}:${cell % 2 === 0 ? "00" : "30"}`;

/** A week of half hours to paint on with the pointer, or by keyboard: arrows
 * move, Space switches, Shift with an arrow paints. */
export function HoursGrid({ week, onPaint, readOnly }: { week: Week; onPaint: (week: Week) => void; readOnly: boolean }) {
  const painting = useRef<boolean | null>(null);
  const table = useRef<HTMLTableElement>(null);
  const set = (day: number, cell: number, on: boolean) => {
    if (!readOnly && week[day][cell] !== on) {
      onPaint(week.map((row, d) => (d === day ? row.map((v, c) => (c === cell ? on : v)) : row)));
    }
  };
  const onKey = (event: KeyboardEvent, day: number, cell: number) => {
    const move = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[event.key];
    if (move) {
      event.preventDefault();
      const [d, c] = [(day + move[0] + 7) % 7, (cell + move[1] + cells) % cells];
      if (event.shiftKey) {
        set(d, c, week[day][cell]);
      }
      table.current?.querySelector<HTMLElement>(`[data-cell="${d}-${c}"]`)?.focus();
    } else if (event.key === " " || event.key === "Enter") {
      event.preventDefault();
      set(day, cell, !week[day][cell]);
    }
  };
  return (
    <div className="overflow-x-auto">
      <table ref={table} role="grid" aria-label="Duty hours of a week" className="w-full min-w-[420px] table-fixed border-collapse select-none" onPointerUp={() => (painting.current = null)} onPointerLeave={() => (painting.current = null)}>
        <thead>
          <tr className="num text-left text-[10px] text-muted">
            <th className="w-9" />
            {Array.from({ length: 8 }, (_, i) => (
              <th key={i} colSpan={6} className="font-normal" scope="col">
                {time(i * 6)}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {week.map((row, day) => (
            <tr key={dayNames[day]}>
              <th scope="row" className="text-left text-xs font-normal text-muted">
                {shownDays[day]}
              </th>
              {row.map((on, cell) => (
                <td
                  key={cell}
                  role="gridcell"
                  data-cell={`${day}-${cell}`}
                  tabIndex={day === 0 && cell === 0 ? 0 : -1}
                  aria-selected={on}
                  aria-readonly={readOnly}
                  aria-label={`${shownDays[day]} ${time(cell)}, ${on ? "on duty" : "off"}`}
                  className={`h-[18px] border border-hair ${cell % 2 === 0 ? "border-l-[color:var(--faint)]" : ""} ${readOnly ? "" : "cursor-cell"}`}
                  style={{ background: on ? "var(--s-rendering-dim)" : undefined }}
                  onPointerDown={(event) => {
                    event.currentTarget.releasePointerCapture(event.pointerId);
                    painting.current = !on;
                    set(day, cell, !on);
                  }}
                  onPointerEnter={(event) => {
                    if (painting.current !== null && event.buttons > 0) {
                      set(day, cell, painting.current);
                    }
                  }}
                  onKeyDown={(event) => onKey(event, day, cell)}
                />
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
