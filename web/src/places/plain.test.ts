import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { lastStepWords, ruleWords, serviceWords } from "../parts/wording";
import { markSize, measuresFor, moved } from "./board/layout";

const policy: Schemas["Policy"] = {
  name: "p",
  segments: ["office"],
  from: "any",
  to: ["out"],
  rules: [
    { services: ["web"], action: "inspect", pool: "watch" },
    { services: ["any"], action: "deny" },
  ],
};

test("services are written in as few words as say them", () => {
  expect(serviceWords({ name: "web", terms: ["tcp/80"], except: [] })).toBe("web");
  expect(serviceWords({ name: "", terms: [], except: ["tcp/22"] })).toBe("all but tcp/22");
  expect(serviceWords({ name: "", terms: ["a", "b", "c", "d", "e", "f", "g"], except: [] })).toContain(
    "and 1 more",
  );
  expect(ruleWords(policy.rules[0]!)).toBe("inspect web by watch");
});

test("arrows move within the board and other keys do not", () => {
  expect(moved({ row: 0, col: 0 }, "ArrowUp", 5)).toEqual({ row: 0, col: 0 });
  expect(moved({ row: 4, col: 4 }, "ArrowRight", 5)).toEqual({ row: 4, col: 4 });
  expect(moved({ row: 1, col: 1 }, "End", 5)).toEqual({ row: 1, col: 4 });
  expect(moved({ row: 1, col: 1 }, "x", 5)).toBeNull();
});

test("as many marks as a cell can have fit into it", () => {
  for (const columns of [5, 40]) {
    const m = measuresFor(columns);
    for (let marks = 1; marks <= 6; marks++) {
      const width = markSize(m, marks) * (20 / 14) + 6;
      const perRow = Math.floor((m.column + 3) / (width - (columns > 8 ? 3 : 0)));
      expect(Math.ceil(marks / perRow) * (markSize(m, marks) + 3)).toBeLessThanOrEqual(m.row);
    }
  }
});

test("what undo would take back is said before it is", () => {
  const last = { revision: 7, why: "", actor: "ada", at: null, changes: [], more: 0 };
  const change = (kind: string, name: string, what: Schemas["What"]) => ({ kind, name, what });
  expect(
    lastStepWords({
      ...last,
      changes: [change("attachments", "tide-lab@delta", "new"), change("policies", "p", "gone")],
    }),
  ).toBe("Undo the change by ada: attachment tide-lab@delta is new, policy p went");
  const many = Array.from({ length: 9 }, (_, i) => change("networks", `n${i}`, "changed"));
  expect(lastStepWords({ ...last, changes: many, more: 4 })).toContain("network n5 changed, 7 more");
  expect(lastStepWords({ ...last, why: "this is the first revision" })).toBe(
    "Nothing to undo: this is the first revision",
  );
});
