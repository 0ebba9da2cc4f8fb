import { expect, test } from "vitest";
import { selecting, selectionOf } from "./selection";
import type { Selection } from "./selection";

const all: Selection[] = [
  { kind: "nothing" },
  { kind: "network", name: "yard" },
  { kind: "network", name: "yard", drop: { into: "office", onto: "fen", fromSegment: "", fromHub: "" } },
  {
    kind: "network",
    name: "yard",
    drop: { into: "office", onto: "fen", fromSegment: "mill", fromHub: "tor" },
  },
  { kind: "routes", segment: "office", hub: "fen" },
  { kind: "hub", name: "fen" },
  { kind: "shares", segments: ["office"] },
  { kind: "shares", segments: ["office", "mill"] },
  { kind: "new" },
  { kind: "many" },
];

/** The address after some changes of it. */
function changed(params: URLSearchParams, changes: Record<string, string | null>) {
  const next = new URLSearchParams(params);
  for (const [key, value] of Object.entries(changes)) {
    if (value === null || value === "") next.delete(key);
    else next.set(key, value);
  }
  return next;
}

test("whatever was selected before, the address says what is selected now, and keeps the rest", () => {
  for (const before of all) {
    const from = changed(new URLSearchParams("detail=names&on=web"), selecting(before));
    for (const after of all) {
      const to = changed(from, selecting(after));
      expect(selectionOf(to)).toEqual(after);
      expect(to.get("detail")).toBe("names");
      expect(to.get("on")).toBe("web");
    }
  }
});
