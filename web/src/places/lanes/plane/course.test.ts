import { expect, test } from "vitest";
import type { Schemas } from "../../../api/client";
import { draws } from "../../../testing/draws";
import { estate } from "../../../testing/estates";
import { end, path, trace } from "../../../testing/traces";
import { courseOf } from "./course";
import type { Course, Point } from "./course";
import { cellKey, details, layout, node } from "./layout";
import type { Plan } from "./layout";

type Trace = Schemas["Trace"];
type Draws = ReturnType<typeof draws>;

/** A network of an estate, in one of its segments, as the end of a flow. */
function endIn(e: ReturnType<typeof estate>, d: Draws) {
  const network = d.one(e.networks.filter((n) => n.at.length > 0));
  const segment = d.one(network.subnets).segment;
  return { network, end: { ...end("10.0.0.1"), network: network.name, segment } };
}

/** Hubs, each another than the one before, from the hub of one end to that of the other. */
function hops(e: ReturnType<typeof estate>, d: Draws, from: string, to: string) {
  const list = [from];
  for (let i = d.below(3); i > 0; i--) {
    const next = d.one(e.hubs).name;
    if (next !== list[list.length - 1]) list.push(next);
  }
  if (list[list.length - 1] !== to) list.push(to);
  return list.map((hub, i) => ({ hub, cost: i === 0 ? 0 : 10 * i }));
}

/** A flow between two networks over the hubs of an estate, which some pools look at. */
function flow(e: ReturnType<typeof estate>, d: Draws, state: "passed" | "blocked" | "none"): Trace {
  const [src, dst] = [endIn(e, d), endIn(e, d)];
  const [enter, leave] = [d.one(src.network.at).hub, d.one(dst.network.at).hub];
  const way = {
    ...path,
    enter: { network: src.network.name, hub: enter, cost: 1 },
    leave: { network: dst.network.name, hub: leave, cost: 1 },
    hops: hops(e, d, enter, leave),
  };
  const there = state === "none" ? [] : [d.one(way.hops).hub];
  return trace(
    state === "blocked"
      ? { outcome: "blocked", reason: "rulebook" }
      : { outcome: state === "none" ? "allowed" : "inspected" },
    {
      source: src.end,
      destination: dst.end,
      path: way,
      back: d.chance(0.7)
        ? { ...way, enter: way.leave, leave: way.enter, hops: way.hops.toReversed() }
        : null,
      pools: there.map((hub) => ({
        pool: "p",
        hub,
        onWay: true,
        firewalls: [],
        state: state === "blocked" ? "blocked" : "passed",
        rulebook: "",
        rule: 1,
        action: "",
      })),
    },
  );
}

/** Where the chip of an end stands, or what it is folded into. */
function standsAt(plan: Plan, x: Schemas["End"], p: Point): boolean {
  const lane = plan.lanes.findIndex((l) => l.name === x.segment);
  return [...plan.columns.keys()].some((c) => {
    const cell = plan.cells.get(cellKey(lane, c));
    const chip = cell?.chips.find((k) => k.network.name === x.network);
    if (chip) return chip.x === p.x && chip.y + 11 === p.y;
    const at = node(plan, lane, c);
    return at.x === p.x && at.y + plan.sizes.below === p.y;
  });
}

/** Whether points stand in a list in their order. */
function inOrder(list: Point[], wanted: Point[]): boolean {
  let next = 0;
  for (const p of list) {
    const w = wanted[next];
    if (w && w.x === p.x && w.y === p.y) next++;
  }
  return next === wanted.length;
}

function eachFlow(
  f: (plan: Plan, t: Trace, c: Course, hint: string) => void,
  state: "passed" | "blocked" | "none",
) {
  for (const [lanes, hubs, networks] of [
    [4, 3, 18],
    [12, 9, 300],
  ] as const) {
    const e = estate(lanes, hubs, networks);
    for (const detail of details) {
      const plan = layout(e, detail, new Map(), 1280);
      for (let seed = 1; seed <= 60; seed++) {
        const t = flow(e, draws(seed), state);
        const c = courseOf(plan, t);
        expect(c, "every end stands somewhere").not.toBeNull();
        if (c) f(plan, t, c, `${lanes} lanes, ${detail}, seed ${seed}`);
      }
    }
  }
}

test("a way leads from chip to chip, by every hub in turn, along lines", () => {
  eachFlow((plan, t, c, hint) => {
    const last = c.there[c.there.length - 1];
    expect(standsAt(plan, t.source, c.there[0] as Point), hint).toBe(true);
    expect(standsAt(plan, t.destination, last as Point), hint).toBe(true);
    expect(c.beyond).toEqual([]);
    expect(c.end).toBeNull();
    for (let i = 1; i < c.there.length; i++) {
      const [a, b] = [c.there[i - 1] as Point, c.there[i] as Point];
      expect(a.x === b.x || a.y === b.y, `${hint}: no line is slanted`).toBe(true);
      expect(a.x !== b.x || a.y !== b.y, `${hint}: nor without a length`).toBe(true);
    }
    const lane = plan.lanes.findIndex((l) => l.name === t.destination.segment);
    const nodes = t.path.hops.map((h) =>
      node(
        plan,
        lane,
        plan.columns.findIndex((x) => x.hub?.name === h.hub),
      ),
    );
    expect(inOrder(c.there, nodes), hint).toBe(true);
    expect(c.hops.map((h) => h.text)).toEqual(t.path.hops.slice(1).map((h) => String(h.cost)));
    expect(c.back.length > 0, hint).toBe(t.back !== null);
  }, "none");
});

test("a gate is passed on the way, and a flow that is blocked there ends at it", () => {
  eachFlow((_, t, c, hint) => {
    expect(c.gates, hint).toHaveLength(t.path.hops.filter((h) => h.hub === t.pools[0]?.hub).length);
    for (const g of c.gates) expect(c.there, hint).toContainEqual(g.at);
  }, "passed");
  eachFlow((_, __, c, hint) => {
    const gate = c.gates[0];
    expect(gate?.blocked, hint).toBe(true);
    expect(c.end, hint).toEqual(gate?.at);
    expect(c.there[c.there.length - 1], hint).toEqual(c.end);
    expect(c.beyond[0], `${hint}: what would follow goes on from there`).toEqual(c.end);
    expect(c.beyond.length, hint).toBeGreaterThan(1);
  }, "blocked");
});

test("a flow without a way ends where it is lost, and one denied at its first hub", () => {
  const e = estate(4, 3, 18);
  const plan = layout(e, "names", new Map(), 1280);
  for (let seed = 1; seed <= 60; seed++) {
    const t = flow(e, draws(seed), "none");
    const lost = courseOf(plan, {
      ...t,
      path: { ...t.path, kind: "none", hops: [] },
      verdict: { ...t.verdict, outcome: "unrouted", reason: "no-path" },
    });
    const enter = node(
      plan,
      plan.lanes.findIndex((l) => l.name === t.source.segment),
      plan.columns.findIndex((x) => x.hub?.name === t.path.enter?.hub),
    );
    expect(lost?.end).toEqual(enter);
    expect(lost?.beyond).toHaveLength(1);

    const denied = courseOf(plan, { ...t, verdict: { ...t.verdict, outcome: "denied" } });
    expect(denied?.there[denied.there.length - 1], `seed ${seed}`).toEqual(denied?.end);
    expect([...(denied?.there ?? []), ...(denied?.beyond.slice(1) ?? [])]).toEqual(courseOf(plan, t)?.there);
  }
});
