// Runs before the first paint, so that a chosen theme never flashes the other one.
try {
  const chosen = localStorage.getItem("theme");
  if (chosen === "night" || chosen === "paper") document.documentElement.dataset.theme = chosen;
} catch {}
