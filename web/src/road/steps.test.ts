import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { trace, matchingRule } from "../testing/traces";
import { stepsOf } from "./steps";

const states = (t: Schemas["Trace"]) => stepsOf(t).map((s) => `${s.title}: ${s.state}`);

test("a delivered flow reaches every step, and its way is told hop by hop", () => {
  const steps = stepsOf(trace({}));
  expect(steps.every((s) => s.state === "reached")).toBe(true);
  expect(steps.find((s) => s.title === "forward path")?.head[0]?.text).toBe("fen —10— tor");
});

test("a flow ends where its verdict says, and never comes to what lies beyond", () => {
  expect(
    states(trace({ outcome: "denied", reason: "policy" }, { rules: [matchingRule("p", "wins")] })),
  ).toEqual([
    "from: reached",
    "route lookup: reached",
    "forward path: reached",
    "policies: ends",
    "to: beyond",
    "return path: beyond",
  ]);
  expect(states(trace({ outcome: "unrouted", reason: "no-path" }))).toContain("forward path: ends");
  expect(states(trace({ outcome: "unrouted", reason: "no-way-back" }))).toContain("return path: ends");
  expect(states(trace({ outcome: "unrouted", reason: "unknown" }))).toEqual([
    "from: reached",
    "route lookup: ends",
  ]);
  const rail = trace(
    { outcome: "denied", reason: "guardrail" },
    { guardrails: [{ ...matchingRule("g", "wins"), kind: "guardrail" }] },
  );
  expect(states(rail)).toContain("guardrails: ends");
});

test("a fork shows what was not taken, with the reason, and the default last", () => {
  const t = trace(
    {},
    {
      rules: [
        matchingRule("narrow", "wins"),
        matchingRule("wide", "overridden"),
        matchingRule("mute", "silent"),
      ],
    },
  );
  const fork = stepsOf(t).find((s) => s.kind === "fork");
  expect(fork?.head[0]?.text).toBe("2 matching policies");
  expect(fork?.branches?.map((b) => b.taken)).toEqual([true, false, false, false]);
  expect(fork?.branches?.[1]?.text).toContain("less specific, overridden by narrow");
  expect(fork?.branches?.[2]?.text).toContain("no rule includes");
  expect(fork?.branches?.at(-1)?.text).toContain("not reached");
});

test("draws rejected paths beside the path", () => {
  const way = stepsOf(trace({ outcome: "allowed", reason: "default" })).find((s) => s.kind === "way");
  expect(way?.branches).toEqual([{ taken: false, head: [{ text: "exit fen-out" }], text: "it is down" }]);
});
