import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { stepsOf } from "./steps";

const end = (address: string): Schemas["End"] => ({
  address,
  inside: "",
  seenAs: "",
  internal: true,
  segment: "office",
  network: "yard",
  subnet: "desks",
  prefix: "10.1.0.0/24",
  workload: "",
  labels: null,
  exit: "",
  groups: [],
});

const path: Schemas["Path"] = {
  kind: "hub",
  lost: [{ what: "exit", name: "fen-out", why: "it is down" }],
  absence: "",
  network: "yard",
  entry: { prefix: "0.0.0.0/0", via: "hub", explicit: false },
  peer: "",
  enter: { network: "yard", hub: "fen", cost: 1 },
  hops: [
    { hub: "fen", cost: 0 },
    { hub: "tor", cost: 10 },
  ],
  leave: { network: "mill", hub: "tor", cost: 1 },
  exit: "",
  cost: 12,
};

const voice = (name: string, standing: Schemas["Voice"]["standing"]): Schemas["Voice"] => ({
  kind: "policy",
  name,
  from: "any",
  to: "any",
  rule: 1,
  services: ["web"],
  action: "deny",
  pool: "",
  standing,
  over: standing === "overridden" ? "narrow" : "",
});

const trace = (
  verdict: Partial<Schemas["Verdict"]>,
  rest: Partial<Schemas["Trace"]> = {},
): Schemas["Trace"] => ({
  flow: {
    segment: "office",
    source: "10.1.0.1",
    destination: "10.1.0.2",
    protocol: "tcp",
    sport: 50000,
    dport: 443,
  },
  verdict: {
    outcome: "allowed",
    intended: "allow",
    pools: [],
    reason: "policy",
    by: [],
    contested: false,
    ...verdict,
  },
  source: end("10.1.0.1"),
  destination: end("10.1.0.2"),
  lookup: "own",
  sharedBy: [],
  path,
  decides: "policies",
  voices: [],
  default: { action: "deny", why: "segment", holds: false },
  guardrails: [],
  enforced: true,
  pools: [],
  back: path,
  publication: "",
  ...rest,
});

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
