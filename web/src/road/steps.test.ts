import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { trace, voice } from "../testing/traces";
import { stepsOf } from "./steps";

const states = (t: Schemas["Trace"]) => stepsOf(t).map((s) => `${s.title}: ${s.state}`);

test("a delivered flow reaches every step, and its way is told hop by hop", () => {
  const steps = stepsOf(trace({}));
  expect(steps.every((s) => s.state === "reached")).toBe(true);
  expect(steps.find((s) => s.title === "the way")?.head[0]?.text).toBe("fen —10— tor");
});

test("a flow ends where its verdict says, and never comes to what lies beyond", () => {
  expect(states(trace({ outcome: "denied", reason: "policy" }, { voices: [voice("p", "wins")] }))).toEqual([
    "from: reached",
    "looks up: reached",
    "the way: reached",
    "policies: ends",
    "to: beyond",
    "the way back: beyond",
  ]);
  expect(states(trace({ outcome: "unrouted", reason: "no-path" }))).toContain("the way: ends");
  expect(states(trace({ outcome: "unrouted", reason: "no-way-back" }))).toContain("the way back: ends");
  expect(states(trace({ outcome: "unrouted", reason: "unknown" }))).toEqual([
    "from: reached",
    "looks up: ends",
  ]);
  const rail = trace(
    { outcome: "denied", reason: "guardrail" },
    { guardrails: [{ ...voice("g", "wins"), kind: "guardrail" }] },
  );
  expect(states(rail)).toContain("guardrails: ends");
});

test("a fork shows what was not taken, with the reason, and the default last", () => {
  const t = trace(
    {},
    { voices: [voice("narrow", "wins"), voice("wide", "overridden"), voice("mute", "silent")] },
  );
  const fork = stepsOf(t).find((s) => s.kind === "fork");
  expect(fork?.head[0]?.text).toBe("2 policies speak");
  expect(fork?.branches?.map((b) => b.taken)).toEqual([true, false, false, false]);
  expect(fork?.branches?.[1]?.text).toContain("wider, overridden by narrow");
  expect(fork?.branches?.[2]?.text).toContain("no rule contains");
  expect(fork?.branches?.at(-1)?.text).toContain("does not come to it");
});

test("draws the ways that were not taken beside the way", () => {
  const way = stepsOf(trace({ outcome: "allowed", reason: "default" })).find((s) => s.kind === "way");
  expect(way?.branches).toEqual([{ taken: false, head: [{ text: "exit fen-out" }], text: "it is down" }]);
});
