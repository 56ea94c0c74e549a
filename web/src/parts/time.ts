import { useEffect, useState } from "react";

/** The time, moving on every second. */
export function useNow(): number {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => setNow(Date.now()), 1000);
    return () => window.clearInterval(timer);
  }, []);
  return now;
}

const two = (n: number) => String(n).padStart(2, "0");
const days = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/** A time of day; with the weekday when it is not today, and the date or year when
 * it is farther away; seconds only when it
 * is near. */
export function clock(iso: string, now: number): string {
  const t = new Date(iso);
  const today = new Date(now);
  const time = `${two(t.getHours())}:${two(t.getMinutes())}`;
  if (t.toDateString() !== today.toDateString()) {
    if (Math.abs(t.getTime() - now) < 6 * 24 * 3600_000) {
      return `${days[t.getDay()]} ${time}`;
    }
    const date = `${t.getDate()} ${months[t.getMonth()]}`;
    return t.getFullYear() === today.getFullYear() ? `${date} ${time}` : `${date} ${t.getFullYear()}`;
  }
  return Math.abs(t.getTime() - now) < 15 * 60_000 ? `${time}:${two(t.getSeconds())}` : time;
}

/** A span of time such as 1 h 04 m, 12 m 30 s or 8 s. */
export function span(ms: number): string {
  const s = Math.max(0, Math.round(ms / 1000));
  if (s < 60) {
    return `${s} s`;
  }
  if (s < 3600) {
    return `${Math.floor(s / 60)} m ${two(s % 60)} s`;
  }
  return `${Math.floor(s / 3600)} h ${two(Math.floor((s % 3600) / 60))} m`;
}

export const since = (iso: string, now: number) => span(now - new Date(iso).getTime());
