import { expect, test } from "vitest";
import { arrange } from "../../parts/marks/picture";
import { bringIntoView, cellUnder, markSize, measuresFor } from "./layout";

test("marks find room in their cell, and what finds none is counted", () => {
  for (const columns of [4, 40]) {
    const m = measuresFor(columns);
    for (let marks = 0; marks <= 10; marks++) {
      const room = { width: m.column, height: m.row, size: markSize(m, marks) };
      const { at, rest, markWidth } = arrange(marks, room);
      const drawn = rest > 0 ? at.length - 1 : at.length;
      expect(drawn + rest).toBe(marks);
      for (const [i, { x, y }] of at.entries()) {
        expect(x).toBeGreaterThanOrEqual(0);
        expect(x + markWidth).toBeLessThanOrEqual(m.column);
        expect(y).toBeGreaterThanOrEqual(0);
        expect(y + room.size).toBeLessThanOrEqual(m.row);
        for (const other of at.slice(i + 1)) {
          const apart = Math.abs(other.x - x) >= markWidth || Math.abs(other.y - y) >= room.size;
          expect(apart, `${marks} marks in ${columns} columns`).toBe(true);
        }
      }
    }
  }
});

function scroller(left: number, top: number) {
  return {
    scrollLeft: left,
    scrollTop: top,
    clientWidth: 1000,
    clientHeight: 600,
    getBoundingClientRect: () => ({ left: 20, top: 100 }),
  } as unknown as HTMLElement;
}

test("the cell under the pointer is the one that is drawn there", () => {
  const m = measuresFor(100);
  const at = (x: number, y: number, left = 0, top = 0) => cellUnder(scroller(left, top), m, 100, { x, y });
  expect(at(20 + m.side + 1, 100 + m.head + 1)).toEqual({ row: 0, col: 0 });
  expect(at(20 + m.side - 1, 100 + m.head + 1)).toBeNull();
  expect(at(20 + m.side + 1, 100 + m.head - 1)).toBeNull();
  expect(at(20 + m.side + 1, 100 + m.head + 1, 10 * m.column, 7 * m.row)).toEqual({ row: 7, col: 10 });
  expect(at(20 + m.side + 1, 100 + m.head + 1, 100 * m.column, 0)).toBeNull();
});

test("a cell comes into view by the least scrolling", () => {
  const m = measuresFor(100);
  const s = scroller(0, 0);
  bringIntoView(s, m, { row: 0, col: 0 });
  expect([s.scrollLeft, s.scrollTop]).toEqual([0, 0]);
  bringIntoView(s, m, { row: 50, col: 60 });
  expect(s.scrollTop).toBe(51 * m.row - (600 - m.head));
  expect(s.scrollLeft).toBe(61 * m.column - (1000 - m.side));
  const before = [s.scrollLeft, s.scrollTop];
  bringIntoView(s, m, { row: 49, col: 59 });
  expect([s.scrollLeft, s.scrollTop]).toEqual(before);
  bringIntoView(s, m, { row: 2, col: 1 });
  expect([s.scrollLeft, s.scrollTop]).toEqual([m.column, 2 * m.row]);
});
