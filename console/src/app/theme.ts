import { useSyncExternalStore } from "react";

const KEPT = "bathotype.theme";
const dark = matchMedia("(prefers-color-scheme: dark)");
const listeners = new Set<() => void>();
export type Theme = "day" | "night";

/** What a person has chosen; else what their system says, which may change while a page is open. */
function theme(): Theme {
  const kept = localStorage.getItem(KEPT);
  if (kept === "day" || kept === "night") return kept;
  return dark.matches ? "night" : "day";
}

function show() {
  document.documentElement.dataset.theme = theme();
  listeners.forEach((tell) => tell());
}

export function setTheme(wanted: Theme) {
  localStorage.setItem(KEPT, wanted);
  show();
}

/** Once, before the first page is drawn. */
export function showTheme() {
  show();
  dark.addEventListener("change", show);
}

export function useTheme(): Theme {
  return useSyncExternalStore((tell) => {
    listeners.add(tell);
    return () => void listeners.delete(tell);
  }, theme);
}
