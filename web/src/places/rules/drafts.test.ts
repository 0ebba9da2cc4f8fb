// @vitest-environment jsdom
import { beforeEach, expect, test } from "vitest";
import { draws } from "../../testing/draws";
import { dropDraft, keepDraft, moved, operationsOf, same } from "./drafts";
import type { Draft } from "./drafts";
import { withAction } from "./editors/RuleList";
import { freeName, refersTo } from "./kinds";

const draft: Draft = {
  kind: "policy",
  name: "p",
  object: { name: "p", from: ["crews"] },
  base: "absent",
  revision: 3,
  along: [{ op: "put", kind: "group", object: { name: "crews", match: "role=crew" }, base: "absent" }],
  wiring: [],
};

beforeEach(() => localStorage.clear());

test("what is added along comes before what refers to it", () => {
  expect(operationsOf(draft).map((o) => o.kind)).toEqual(["group", "policy"]);
  expect(operationsOf(draft).every((o) => o.base === "absent")).toBe(true);
});

test("a draft is kept by kind and name, and another of that name is left alone", () => {
  keepDraft(draft);
  keepDraft({ ...draft, kind: "share" });
  dropDraft("policy", "p");
  expect(Object.keys(localStorage)).toEqual(["bivium.writing.share:p"]);
});

test("moving an item keeps the others in their order, and does nothing at an end", () => {
  for (let seed = 0; seed < 200; seed++) {
    const d = draws(seed);
    const items = Array.from({ length: 1 + d.below(7) }, (_, i) => i);
    const [from, to] = [d.below(items.length), d.below(items.length + 2) - 1];
    const next = moved(items, from, to);
    const rest = (list: number[]) => list.filter((x) => x !== from);
    expect(rest(next)).toEqual(rest(items));
    expect(next.indexOf(from)).toBe(to < 0 || to >= items.length ? from : to);
  }
});

test("objects are the same whatever the order of their keys, and rules are not", () => {
  expect(same({ a: 1, b: [{ c: 2, d: undefined }] }, { b: [{ c: 2 }], a: 1 })).toBe(true);
  expect(same({ rules: ["a", "b"] }, { rules: ["b", "a"] })).toBe(false);
});

test("a rule has a pool if it inspects, and only then", () => {
  const rule = withAction({ services: ["web"], action: "deny" }, "inspect", "watch");
  expect(rule).toEqual({ services: ["web"], action: "inspect", pool: "watch" });
  expect(withAction(rule, "allow", "watch")).toEqual({ services: ["web"], action: "allow" });
  expect(withAction(withAction(rule, "inspect", "other"), "inspect", "other").pool).toBe("watch");
});

test("a proposed name is free, and what an object refers to is found at any depth", () => {
  expect(freeName("new-policy", ["new-policy", "new-policy-2"])).toBe("new-policy-3");
  const share = {
    name: "s",
    owner: { segment: "works", groups: ["clocks"] },
    guest: { segment: "office", groups: "any" },
    rules: [{ services: ["ntp", { protocol: "tcp" }], action: "inspect", pool: "watch" }],
  };
  expect(refersTo(share)).toEqual({
    segments: ["works", "office"],
    groups: ["clocks"],
    services: ["ntp"],
    pools: ["watch"],
  });
});
