// Puts the chosen theme, or the system's, on the page before anything is drawn.
(() => {
  const light = window.matchMedia("(prefers-color-scheme: light)");
  const apply = () => {
    let chosen = null;
    try {
      chosen = localStorage.getItem("vexillum-theme");
    } catch {
      // Nothing may be kept here: then it is the system's.
    }
    document.documentElement.dataset.theme = chosen === "night" || chosen === "day" ? chosen : light.matches ? "day" : "night";
  };
  apply();
  light.addEventListener("change", apply);
  window.addEventListener("storage", apply); // chosen on another page
  window.addEventListener("vexillum-theme", apply);
})();
