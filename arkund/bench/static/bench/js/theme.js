// Light or dark: the system's choice unless one was made here.
const KEY = "arkund-theme";
const chosen = localStorage.getItem(KEY);
if (chosen) document.documentElement.dataset.theme = chosen;

export function toggleTheme() {
  const root = document.documentElement;
  const dark = root.dataset.theme
    ? root.dataset.theme === "dark"
    : matchMedia("(prefers-color-scheme: dark)").matches;
  root.dataset.theme = dark ? "light" : "dark";
  localStorage.setItem(KEY, root.dataset.theme);
}
