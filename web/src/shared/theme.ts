const system = window.matchMedia("(prefers-color-scheme: dark)");

/** The theme is that of the system until another is chosen in this browser. */
export const isDark = () => {
  const chosen = localStorage.getItem("ferry-theme");
  return chosen ? chosen === "dark" : system.matches;
};

export function applyTheme() {
  document.documentElement.dataset.theme = isDark() ? "dark" : "light";
}

system.addEventListener("change", applyTheme);

export function toggleTheme() {
  localStorage.setItem("ferry-theme", isDark() ? "light" : "dark");
  applyTheme();
}
