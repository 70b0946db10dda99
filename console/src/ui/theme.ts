import { useEffect, useState } from "react";

export type Theme = "light" | "dark" | "system";
const KEY = "chronarch.theme";
const dark = matchMedia("(prefers-color-scheme: dark)");

function kept(): Theme {
  const value = localStorage.getItem(KEY);
  return value === "light" || value === "dark" ? value : "system";
}

function apply(theme: Theme) {
  const name = theme === "system" ? (dark.matches ? "dark" : "light") : theme;
  document.documentElement.dataset.theme = name;
}

apply(kept());

/** Whether the page is dark now. */
export function useDark(): boolean {
  const [is, set] = useState(document.documentElement.dataset.theme === "dark");
  useEffect(() => {
    const watch = new MutationObserver(() => set(document.documentElement.dataset.theme === "dark"));
    watch.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    return () => watch.disconnect();
  }, []);
  return is;
}

/** The theme and how to change it; kept in this browser. */
export function useTheme(): [Theme, (theme: Theme) => void] {
  const [theme, setTheme] = useState(kept);
  useEffect(() => {
    apply(theme);
    localStorage.setItem(KEY, theme);
    const follow = () => apply(theme);
    dark.addEventListener("change", follow);
    return () => dark.removeEventListener("change", follow);
  }, [theme]);
  return [theme, setTheme];
}
