import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { placeOf } from "../../parts/ThingLink";
import { stepsOf } from "./steps";

function estate(counts: Record<string, number>): Schemas["Estate"] {
  return {
    name: "e",
    description: "",
    revision: 1,
    segments: [],
    groups: [],
    services: [],
    pools: [],
    faults: [],
    empty: false,
    counts,
  };
}

function tagged(workloads: number, unlabelled: number): Schemas["Tagged"] {
  return {
    mappings: [],
    rules: [],
    counts: [],
    tags: [],
    rows: [],
    more: 0,
    changed: 0,
    workloads,
    unlabelled,
  };
}

test("the steps follow the work, and the first that is open is next", () => {
  const next = (counts: Record<string, number>, t?: Schemas["Tagged"]) =>
    stepsOf(estate(counts), t).find((s) => !s.done)?.title;
  expect(next({})).toBe("Connect");
  expect(next({ accounts: 1 }, tagged(0, 0))).toBe("Read");
  expect(next({ accounts: 1, workloads: 9 }, tagged(9, 4))).toBe("Label");
  expect(next({ accounts: 1, workloads: 9 }, tagged(9, 0))).toBe("Group");
  expect(next({ accounts: 1, workloads: 9, groups: 1 }, tagged(9, 0))).toBe("Place");
  expect(
    next({ accounts: 1, workloads: 9, groups: 1, segments: 1, policies: 1 }, tagged(9, 0)),
  ).toBeUndefined();
});

test("every thing has an address, which keeps the question and drops the finding", () => {
  const search = "?from=a&finding=down.1";
  expect(placeOf({ kind: "policy", name: "p" }, search)).toBe("/rules/policy/p?from=a");
  expect(placeOf({ kind: "attachment", name: "n@h" }, search)).toBe(
    "/estate?from=a&thing=attachment%3An%40h",
  );
});
