import { useSyncExternalStore } from "react";

/** What pictures are drawn with: the theme's colours, at the screen's density. */
export interface Ink {
  /** One text for all of it: pictures of equal keys are equal. */
  key: string;
  density: number;
  colour: (name: string) => string;
}

let current: Ink | null = null;

function read(): Ink {
  const key = `${document.documentElement.dataset.theme ?? ""} ${window.devicePixelRatio}`;
  if (current?.key !== key) {
    const style = getComputedStyle(document.documentElement);
    current = {
      key,
      density: window.devicePixelRatio,
      colour: (name) => style.getPropertyValue(`--${name}`),
    };
  }
  return current;
}

function subscribe(changed: () => void): () => void {
  const theme = new MutationObserver(changed);
  theme.observe(document.documentElement, { attributeFilter: ["data-theme"] });
  window.addEventListener("resize", changed); // a change of zoom is one, too
  return () => {
    theme.disconnect();
    window.removeEventListener("resize", changed);
  };
}

/** The ink of now; it changes with the theme and with the zoom of the page. */
export function useInk(): Ink {
  return useSyncExternalStore(subscribe, read);
}
