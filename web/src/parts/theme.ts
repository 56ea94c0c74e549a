export type Theme = "system" | "night" | "day";

const key = "vexillum-theme";

export function chosenTheme(): Theme {
  const kept = localStorage.getItem(key);
  return kept === "night" || kept === "day" ? kept : "system";
}

/** Applies the chosen theme, or the system's. */
export function applyTheme(theme: Theme = chosenTheme()): void {
  if (theme === "system") {
    localStorage.removeItem(key);
  } else {
    localStorage.setItem(key, theme);
  }
  const light = window.matchMedia("(prefers-color-scheme: light)").matches;
  document.documentElement.dataset.theme = theme === "system" ? (light ? "day" : "night") : theme;
}
