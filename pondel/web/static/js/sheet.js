// Sets the day or night sheet before anything is drawn; where the system forces its colours, it decides.
(() => {
  const chosen = matchMedia("(forced-colors: active)").matches ? null : localStorage.getItem("pondel-sheet");
  const night = chosen ? chosen === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.sheet = night ? "night" : "day";
})();
