import { type KeyboardEvent, useRef, useState } from "react";
import { cells, dayNames, type Week } from "./week";

const shownDays = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const longDays = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const time = (cell: number) => `${String(Math.floor(cell / 2) % 24).padStart(2, "0")}:${cell % 2 === 0 ? "00" : "30"}`;

/** A week of half hours to paint on with the pointer, or by keyboard: arrows
 * move, Home and End go to the ends of the day, Space switches, Shift with an
 * arrow paints. */
export function HoursGrid({
  week,
  onPaint,
  readOnly,
}: {
  week: Week;
  onPaint: (week: Week) => void;
  readOnly: boolean;
}) {
  const painting = useRef<boolean | null>(null);
  const table = useRef<HTMLTableElement>(null);
  const [at, setAt] = useState([0, 0]); // the one that Tab leads to
  const set = (day: number, cell: number, on: boolean) => {
    if (!readOnly && week[day][cell] !== on) {
      onPaint(week.map((row, d) => (d === day ? row.map((v, c) => (c === cell ? on : v)) : row)));
    }
  };
  const onKey = (event: KeyboardEvent, day: number, cell: number) => {
    const moves: Record<string, [number, number]> = {
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      ArrowUp: [-1, 0],
      ArrowDown: [1, 0],
      Home: [0, -cell],
      End: [0, cells - 1 - cell],
    };
    const move = moves[event.key];
    if (move) {
      event.preventDefault();
      const [d, c] = [(day + move[0] + 7) % 7, (cell + move[1] + cells) % cells];
      if (event.shiftKey) {
        set(d, c, week[day][cell]);
      }
      setAt([d, c]);
      table.current?.querySelector<HTMLElement>(`[data-cell="${d}-${c}"]`)?.focus();
    } else if (event.key === " " || event.key === "Enter") {
      event.preventDefault();
      set(day, cell, !week[day][cell]);
    }
  };
  return (
    <div className="overflow-x-auto">
      <table
        ref={table}
        role="grid"
        aria-label="Duty hours of a week, by half hours"
        aria-readonly={readOnly}
        className="w-full min-w-[420px] table-fixed border-collapse select-none"
        onPointerUp={() => (painting.current = null)}
        onPointerLeave={() => (painting.current = null)}
      >
        <thead>
          <tr className="num text-left text-[11px] text-muted">
            <th className="w-9">
              <span className="sr-only">day</span>
            </th>
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
                  tabIndex={day === at[0] && cell === at[1] ? 0 : -1}
                  aria-selected={on}
                  aria-label={`${longDays[day]} ${time(cell)} to ${time(cell + 1)}, ${on ? "on duty" : "off duty"}`}
                  className={`h-6 border border-hair ${cell % 2 === 0 ? "border-l-[color:var(--faint)]" : ""} ${readOnly ? "" : "cursor-cell"}`}
                  style={{ background: on ? "var(--s-rendering)" : undefined }}
                  onPointerDown={(event) => {
                    event.currentTarget.releasePointerCapture(event.pointerId);
                    painting.current = !on;
                    setAt([day, cell]);
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
