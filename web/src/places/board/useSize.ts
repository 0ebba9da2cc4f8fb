import { useLayoutEffect, useState } from "react";
import type { RefObject } from "react";

/** How large an element is, as it changes. */
export function useSize(element: RefObject<HTMLElement | null>): { width: number; height: number } {
  const [size, setSize] = useState({ width: 0, height: 0 });
  useLayoutEffect(() => {
    const at = element.current;
    if (!at) return;
    const observer = new ResizeObserver(() => setSize({ width: at.clientWidth, height: at.clientHeight }));
    observer.observe(at);
    return () => observer.disconnect();
  }, [element]);
  return size;
}
