const KEPT = "bathotype.theme";
export type Theme = "day" | "night";

export function theme(): Theme {
  const kept = localStorage.getItem(KEPT);
  if (kept === "day" || kept === "night") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day";
}

export function setTheme(wanted: Theme) {
  localStorage.setItem(KEPT, wanted);
  document.documentElement.dataset.theme = wanted;
}

export const showTheme = () => {
  document.documentElement.dataset.theme = theme();
};
