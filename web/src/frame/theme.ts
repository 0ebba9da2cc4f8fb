import { useEffect, useState } from "react";

export type Theme = "light" | "dark";
const key = "bivium.theme";

function initial(): Theme {
  const stored = localStorage.getItem(key);
  if (stored === "light" || stored === "dark") return stored;
  return window.matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

/** The theme: what was chosen here before, else what the system prefers. */
export function useTheme(): [Theme, () => void] {
  const [theme, setTheme] = useState(initial);
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  const toggle = () => {
    const next = theme === "light" ? "dark" : "light";
    localStorage.setItem(key, next);
    setTheme(next);
  };
  return [theme, toggle];
}
