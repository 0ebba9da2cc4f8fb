import { useSyncExternalStore } from "react";

const query = "(max-width: 960px)";

function subscribe(changed: () => void): () => void {
  const media = window.matchMedia(query);
  media.addEventListener("change", changed);
  return () => media.removeEventListener("change", changed);
}

/** Whether the window is narrow, as it is when the page is zoomed in. */
export function useNarrow(): boolean {
  return useSyncExternalStore(subscribe, () => window.matchMedia(query).matches);
}
