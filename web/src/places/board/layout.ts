import type { Schemas } from "../../api/client";
import { box } from "../../parts/marks/geometry";

type Node = Schemas["BoardNode"];

/** Sizes of the board, in pixels. Few columns are drawn wide, many narrow. */
export interface Measures {
  column: number;
  row: number;
  head: number;
  side: number;
  mark: number;
  words: number; // the room for words below the marks
}

/** The sizes of a board of so many columns. A small one fills the room that there is. */
export function measuresFor(columns: number, room = { width: 0, height: 0 }): Measures {
  if (columns > 8) return { column: 50, row: 30, head: 128, side: 212, mark: 11, words: 0 };
  const side = 190;
  const head = 40;
  const fill = (all: number, least: number, most: number) =>
    Math.max(least, Math.min(most, Math.floor(all / columns)));
  const column = fill(room.width - side, 108, 210);
  const row = fill(room.height - head, 44, 104);
  const words = row >= 64 ? 22 : 0;
  return { column, row, head, side, mark: row >= 80 ? 22 : 17, words };
}

/** The size of the marks of a cell, so that as many as there can be fit into it. */
export function markSize(m: Measures, marks: number): number {
  if (m.column > 60) {
    const onLine = Math.floor((m.column - 2) / ((m.mark * box.width) / box.height + 6));
    return marks > 6 ? 12 : marks > onLine ? 14 : m.mark;
  }
  return marks > 4 ? 9 : m.mark;
}

/** What a row or column is called on the board itself, under its segment. */
export function label(n: Node): string {
  switch (n.kind) {
    case "segment":
      return n.segment;
    case "group":
      return n.group;
    case "rest":
      return "in no group";
    case "internet":
      return "internet";
  }
}

/** The cell that an arrow key leads to from another, within bounds. */
export function moved(at: { row: number; col: number }, key: string, size: number) {
  const clamp = (n: number) => Math.max(0, Math.min(size - 1, n));
  switch (key) {
    case "ArrowUp":
      return { ...at, row: clamp(at.row - 1) };
    case "ArrowDown":
      return { ...at, row: clamp(at.row + 1) };
    case "ArrowLeft":
      return { ...at, col: clamp(at.col - 1) };
    case "ArrowRight":
      return { ...at, col: clamp(at.col + 1) };
    case "Home":
      return { ...at, col: 0 };
    case "End":
      return { ...at, col: size - 1 };
    case "PageUp":
      return { ...at, row: clamp(at.row - 10) };
    case "PageDown":
      return { ...at, row: clamp(at.row + 10) };
  }
  return null;
}

/** Scrolls the board as little as it takes for a cell to stand clear of the heads. */
export function bringIntoView(scroller: HTMLElement, m: Measures, at: { row: number; col: number }) {
  const top = at.row * m.row;
  const left = at.col * m.column;
  const height = scroller.clientHeight - m.head;
  const width = scroller.clientWidth - m.side;
  scroller.scrollTop = Math.min(top, Math.max(scroller.scrollTop, top + m.row - height));
  scroller.scrollLeft = Math.min(left, Math.max(scroller.scrollLeft, left + m.column - width));
}

/** The cell that a point of the window is over, if it is over one and not over the heads. */
export function cellUnder(scroller: HTMLElement, m: Measures, size: number, point: { x: number; y: number }) {
  const box = scroller.getBoundingClientRect();
  const x = point.x - box.left - m.side;
  const y = point.y - box.top - m.head;
  const col = Math.floor((x + scroller.scrollLeft) / m.column);
  const row = Math.floor((y + scroller.scrollTop) / m.row);
  return x >= 0 && y >= 0 && row < size && col < size ? { row, col } : null;
}
