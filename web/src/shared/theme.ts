/** The theme is light unless the user chose dark in this browser. */
export const isDark = () => localStorage.getItem("ferry-theme") === "dark";

export function applyTheme() {
  document.documentElement.dataset.theme = isDark() ? "dark" : "light";
}

export function toggleTheme() {
  localStorage.setItem("ferry-theme", isDark() ? "light" : "dark");
  applyTheme();
}
