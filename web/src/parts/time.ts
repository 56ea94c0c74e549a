import { useEffect, useState } from "react";

/** The time, moving on every few ms. */
export function useNow(every = 1000): number {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => setNow(Date.now()), every);
    return () => window.clearInterval(timer);
  }, [every]);
  return now;
}

const two = (n: number) => String(n).padStart(2, "0");
const days = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];
const months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/** A time of day; with the weekday when it is not today, and with the date, or
 * the year, when it is farther away; seconds only when it is near. */
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

/** A time with all that belongs to it, as a hint beside a short one. */
export function whole(iso: string): string {
  const t = new Date(iso);
  return `${days[t.getDay()]} ${t.getDate()} ${months[t.getMonth()]} ${t.getFullYear()} ${two(t.getHours())}:${two(t.getMinutes())}:${two(t.getSeconds())}`;
}

/** The zone in which all times of the page are, such as Europe/Vienna (UTC+1). */
export function zone(): string {
  const name = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const minutes = -new Date().getTimezoneOffset();
  const [h, m] = [Math.floor(Math.abs(minutes) / 60), Math.abs(minutes) % 60];
  const from = minutes === 0 ? "UTC" : `UTC${minutes < 0 ? "−" : "+"}${h}${m ? `:${two(m)}` : ""}`;
  return name === "UTC" || name === undefined ? from : `${name} (${from})`;
}

const moments = /\b\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ\b/g;

/** A sentence of the service with its moments in the zone of the page. */
export const told = (sentence: string, now: number = Date.now()) => sentence.replace(moments, (at) => clock(at, now));

/** The same, beginning with a capital letter unless that is of a name. */
export function sentence(text: string, now: number = Date.now()): string {
  const said = told(text, now);
  return /^[a-z]+[ ,.:;]/.test(said) ? said.charAt(0).toUpperCase() + said.slice(1) : said;
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
  if (s < 48 * 3600) {
    return `${Math.floor(s / 3600)} h ${two(Math.floor((s % 3600) / 60))} m`;
  }
  return `${Math.floor(s / 86_400)} d ${Math.floor((s % 86_400) / 3600)} h`;
}

export const since = (iso: string, now: number) => span(now - new Date(iso).getTime());
