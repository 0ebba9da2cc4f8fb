import type { Schemas } from "../../api/client";

export type Outcome = Schemas["Outcome"];

/** The box that every mark is drawn in. */
export const box = { width: 20, height: 14 };

/** How thick the lines of a mark are, in units of the box. */
export const strokes = { line: 2.3, dots: 2.8, fork: 1.9 };

/** What a mark is made of: strokes, maybe a ring, maybe dots. */
export interface Shape {
  strokes: string;
  ring?: { x: number; r: number };
  dots?: string;
}

/**
 * The one drawing of the outcomes, by shape alone: a stroke that goes through,
 * goes through a ring, ends behind a ring, ends at a bar, or breaks off.
 */
export const shapes: Record<Outcome, Shape> = {
  allowed: { strokes: "M1.5 7H18.5" },
  inspected: { strokes: "M1.5 7H5.7M14.3 7H18.5", ring: { x: 10, r: 4.3 } },
  blocked: { strokes: "M1.5 7H4.2M17 1.8V12.2", ring: { x: 8.6, r: 4.3 } },
  denied: { strokes: "M1.5 7H12.5M12.5 1.6V12.4" },
  unrouted: { strokes: "M1.5 7H6", dots: "M10 7h.01M14 7h.01M18 7h.01" },
};

/** The fork that stands at the start of a contested mark. */
export const contestedFork = "M1.5 2.6L5 7L1.5 11.4";

/** The strokes of a mark that begins behind the fork instead of at the edge. */
export function afterFork(strokes: string): string {
  return strokes.replace(/^M1\.5 7/, "M5 7");
}

/** What a mark is called, for people who do not see it. */
export function markName(outcome: Outcome, contested: boolean): string {
  return contested ? `${outcome}, contested` : outcome;
}

/** What the marks of a cell say, widest first. */
export function marksName(marks: Schemas["Mark"][]): string {
  return marks.map((m) => markName(m.outcome, m.contested)).join("; ") || "no flow";
}
