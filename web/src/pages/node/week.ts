export const dayNames = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;

/** Cells of a day: half an hour each. */
export const cells = 48;

/** For each day, Monday first, which half hours are on duty. */
export type Week = boolean[][];

export const emptyWeek = (): Week => dayNames.map(() => new Array<boolean>(cells).fill(false));
export const fullWeek = (): Week => dayNames.map(() => new Array<boolean>(cells).fill(true));

/** Reads a week as the service writes it. Times that are no half hours are
 * rounded; exact tells whether none was. */
export function readWeek(text: string): { week: Week; exact: boolean } {
  const week = emptyWeek();
  let exact = true;
  if (text === "never" || text.trim() === "") {
    return { week, exact };
  }
  for (const part of text.split(";")) {
    const [days, windows] = part.trim().split(" ");
    for (const day of readDays(days)) {
      for (const window of windows.split(",")) {
        const [from, to] = window.split("-").map((t) => {
          const [h, m] = t.split(":").map(Number);
          exact &&= m % 30 === 0;
          return h * 2 + Math.round(m / 30);
        });
        const end = to <= from ? to + cells : to; // it ends on the next day
        for (let c = from; c < end; c++) {
          week[(day + Math.floor(c / cells)) % 7][c % cells] = true;
        }
      }
    }
  }
  return { week, exact };
}

function readDays(text: string): number[] {
  return text.split(",").flatMap((part) => {
    const [first, last = first] = part.split("-");
    const from = dayNames.indexOf(first as (typeof dayNames)[number]);
    const to = dayNames.indexOf(last as (typeof dayNames)[number]);
    const days: number[] = [];
    for (let d = from; ; d = (d + 1) % 7) {
      days.push(d);
      if (d === to) {
        return days;
      }
    }
  });
}

const clock = (cell: number) => `${String(Math.floor(cell / 2)).padStart(2, "0")}:${cell % 2 === 0 ? "00" : "30"}`;

/** Writes a week as the service reads it: days that follow one another and are
 * alike in one. */
export function writeWeek(week: Week): string {
  const parts: { first: number; last: number; windows: string }[] = [];
  week.forEach((day, d) => {
    const windows = writeDay(day);
    const before = parts[parts.length - 1];
    if (before && before.windows === windows && before.last === d - 1) {
      before.last = d;
    } else if (windows !== "") {
      parts.push({ first: d, last: d, windows });
    }
  });
  const days = ({ first, last }: { first: number; last: number }) =>
    first === last ? dayNames[first] : `${dayNames[first]}${last === first + 1 ? "," : "-"}${dayNames[last]}`;
  return parts.length === 0 ? "never" : parts.map((p) => `${days(p)} ${p.windows}`).join("; ");
}

function writeDay(day: boolean[]): string {
  const windows: string[] = [];
  for (let c = 0; c < cells; c++) {
    if (day[c] && !day[c - 1]) {
      let end = c;
      while (end < cells && day[end]) {
        end++;
      }
      windows.push(`${clock(c)}-${clock(end)}`);
    }
  }
  return windows.join(",");
}

const window = /^([01]?\d|2[0-4]):([03]0)-([01]?\d|2[0-4]):([03]0)$/;

/** Reads a week that a person has written, or says what is wrong with it. */
export function parseWeek(text: string): Week | string {
  const said = text.trim().toLowerCase();
  if (said === "" || said === "never") {
    return emptyWeek();
  }
  for (const part of said.split(";")) {
    const [days, windows, more] = part.trim().split(/\s+/);
    const named = (days ?? "").split(/[,-]/);
    if (
      !named.every((d) => (dayNames as readonly string[]).includes(d)) ||
      windows === undefined ||
      more !== undefined
    ) {
      return `“${part.trim()}” cannot be read: write days and times like mon-fri 19:00-24:00,00:00-08:00; sat,sun 00:00-24:00.`;
    }
    const bad = windows.split(",").find((w) => !window.test(w));
    if (bad !== undefined) {
      return `“${bad}” is no stretch of time: write it like 19:00-24:00, by half hours.`;
    }
  }
  return readWeek(said).week;
}
