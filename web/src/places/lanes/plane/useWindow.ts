import { useLayoutEffect, useState } from "react";
import type { RefObject } from "react";
import { visible } from "./layout";
import type { Plan } from "./layout";

/** Which lanes and columns are on screen, and one more on either side. */
export interface Window {
  lanes: [number, number];
  columns: [number, number];
}

const margin = 240;

/** What of a plan is on screen. It changes when a lane or a column comes or goes, not with each pixel. */
export function useWindow(scroller: RefObject<HTMLDivElement | null>, plan: Plan): Window {
  const [window, setWindow] = useState<Window>({ lanes: [0, -1], columns: [0, -1] });
  useLayoutEffect(() => {
    const element = scroller.current;
    if (!element) return;
    const tops = plan.lanes.map((l) => l.top);
    const bottoms = plan.lanes.map((l) => l.top + l.height);
    const lefts = plan.columns.map((c) => c.left);
    const rights = plan.columns.map((c) => c.left + c.width);
    const look = () => {
      const { scrollTop, scrollLeft, clientHeight, clientWidth } = element;
      const lanes = visible(tops, bottoms, scrollTop - margin, scrollTop + clientHeight + margin);
      const columns = visible(lefts, rights, scrollLeft - margin, scrollLeft + clientWidth + margin);
      setWindow((old) =>
        String([old.lanes, old.columns]) === String([lanes, columns]) ? old : { lanes, columns },
      );
    };
    look();
    element.addEventListener("scroll", look, { passive: true });
    const size = new ResizeObserver(look);
    size.observe(element);
    return () => {
      element.removeEventListener("scroll", look);
      size.disconnect();
    };
  }, [scroller, plan]);
  return window;
}
