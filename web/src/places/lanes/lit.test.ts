import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { isDim, litBy } from "./lit";

const nothing: Schemas["ObjectScope"] = {
  revision: 1,
  from: { places: [], internet: false },
  to: { places: [], internet: false },
  pools: [],
  passes: [],
  cells: [],
  more: 0,
};

test("a policy lights the networks of both sides in their lanes, and dims all others", () => {
  const lit = litBy(
    { kind: "policy", name: "p" },
    {
      ...nothing,
      from: { places: [{ network: "yard", segment: "office" }], internet: false },
      to: { places: [], internet: true },
    },
  );
  expect([...lit.lanes]).toEqual(["office", ""]);
  expect(isDim(lit, "office", "yard")).toBe(false);
  expect(isDim(lit, "office", "mill")).toBe(true);
  expect(isDim(lit, "market", "yard")).toBe(true);
  expect(isDim(null, "market", "yard")).toBe(false);
});

test("a pool lights the lanes and hubs whose flows pass it, with all of their networks", () => {
  const pass = { pool: "gate", hub: "delta", from: "office", to: "" };
  const lit = litBy({ kind: "pool", name: "gate" }, { ...nothing, pools: ["gate"], passes: [pass] });
  expect([...lit.hubs]).toEqual(["delta"]);
  expect(isDim(lit, "office", "yard")).toBe(false);
  expect(isDim(lit, "market", "yard")).toBe(true);
  expect(lit.share).toBe("");
});
