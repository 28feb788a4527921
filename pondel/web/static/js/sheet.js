// Sets the day or night sheet before anything is drawn.
(() => {
  const chosen = localStorage.getItem("pondel-sheet");
  const night = chosen ? chosen === "night" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.sheet = night ? "night" : "day";
})();
