export type Theme = "system" | "night" | "day";

const key = "vexillum-theme"; // theme.js reads it before the page is drawn

export function chosenTheme(): Theme {
  const kept = localStorage.getItem(key);
  return kept === "night" || kept === "day" ? kept : "system";
}

/** Keeps the chosen theme and puts it on the page. */
export function chooseTheme(theme: Theme): void {
  if (theme === "system") {
    localStorage.removeItem(key);
  } else {
    localStorage.setItem(key, theme);
  }
  window.dispatchEvent(new Event(key));
}
