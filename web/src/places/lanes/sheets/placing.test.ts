import { expect, test } from "vitest";
import type { WiringEdit } from "../../../api/queries";
import { draws } from "../../../testing/draws";
import { attach, network } from "../../../testing/estates";
import type { Network } from "../estate";
import { dropped, editsOf, placed } from "./placing";
import type { Placing } from "./placing";

const segments = ["", "office", "market", "turbine"];
const hubs = ["delta", "fjord", "ridge"];

/** What the server would make of edits: what a network is, one edit after another. */
function after(n: Network, edits: WiringEdit[]): Network {
  const out = structuredClone(n);
  const outside = new Map(
    n.at.flatMap((a) => n.subnets.map((s) => [`${a.hub} ${s.prefix} ${s.segment}`, s.outside])),
  );
  for (const e of edits) {
    const subnet = out.subnets.find((s) => s.name === e.subnet);
    const there = out.at.find((a) => a.hub === e.hub);
    const key = `${e.hub} ${e.prefix} ${e.segment}`;
    switch (e.op) {
      case "live":
        if (!subnet) throw new Error(`no subnet ${e.subnet}`);
        subnet.segment = e.segment ?? "";
        break;
      case "attach":
        if (there) Object.assign(there, { cost: e.cost, uplink: e.uplink ?? "" });
        else out.at.push(attach(e.hub ?? "", { cost: e.cost ?? 1, uplink: e.uplink ?? "" }));
        break;
      case "detach":
        if (!there) throw new Error(`not attached to ${e.hub}`);
        out.at = out.at.filter((a) => a !== there);
        break;
      case "translate":
        if (!there) throw new Error(`translated where it is not attached: ${e.hub}`);
        outside.set(key, e.outside ?? "");
        break;
      case "untranslate":
        if (!outside.get(key)) throw new Error(`nothing is translated: ${key}`);
        outside.set(key, "");
        break;
      default:
        throw new Error(`an edit that places nothing: ${e.op}`);
    }
  }
  for (const s of out.subnets) {
    const seen = out.at.map((a) => outside.get(`${a.hub} ${s.prefix} ${s.segment}`) ?? "");
    expect(new Set(seen).size, "every attachment shows a subnet as the same").toBeLessThan(2);
    s.outside = seen[0] ?? "";
  }
  return out;
}

/** A network as it may be, in some segments, at some hubs. */
function drawn(d: ReturnType<typeof draws>): Network {
  const n = network(
    "yard",
    Array.from({ length: d.below(3) + 1 }, () => d.one(segments)),
    [],
  );
  n.at = hubs
    .filter(() => d.chance(0.5))
    .map((h) => attach(h, { cost: 1 + d.below(3), uplink: d.one(["", "tunnel"]) }));
  if (n.at.length > 0)
    n.subnets.forEach((s, i) => (s.outside = s.segment && d.chance(0.3) ? `100.64.${i}.0/24` : ""));
  return n;
}

/** Somewhere else that it may be put. */
function wantedOf(d: ReturnType<typeof draws>, n: Network): Placing {
  const to = placed(n);
  for (const s of n.subnets) {
    if (d.chance(0.5)) to.segments[s.name] = d.one(segments);
    if (d.chance(0.4)) to.outside[s.name] = d.one(["", "100.70.0.0/24"]);
  }
  to.at = hubs
    .filter(() => d.chance(0.6))
    .map(
      (hub) =>
        to.at.find((a) => a.hub === hub && d.chance(0.6)) ?? {
          hub,
          cost: 1 + d.below(4),
          uplink: d.one(["", "line"]),
        },
    );
  for (const s of n.subnets) if (to.at.length === 0 || !to.segments[s.name]) to.outside[s.name] = "";
  return to;
}

test("edits lead from where a network is to where it is to be, and no further", () => {
  const seen = { moved: 0, attached: 0, detached: 0, translated: 0, untranslated: 0 };
  for (let seed = 1; seed <= 2000; seed++) {
    const d = draws(seed);
    const n = drawn(d);
    const wanted = wantedOf(d, n);
    const edits = editsOf(n, wanted);
    for (const e of edits) {
      if (e.op === "live") seen.moved++;
      if (e.op === "attach") seen.attached++;
      if (e.op === "detach") seen.detached++;
      if (e.op === "translate") seen.translated++;
      if (e.op === "untranslate") seen.untranslated++;
    }
    const is = after(n, edits);
    const sorted = (p: Placing) => ({ ...p, at: p.at.toSorted((a, b) => a.hub.localeCompare(b.hub)) });
    expect(sorted(placed(is)), `seed ${seed}: ${JSON.stringify(edits)}`).toEqual(sorted(wanted));
    expect(editsOf(is, wanted), `seed ${seed}`).toEqual([]);
  }
  expect(Math.min(...Object.values(seen))).toBeGreaterThan(100);
});

test("what is dropped goes where it is dropped, and all else of it stays", () => {
  for (let seed = 1; seed <= 1000; seed++) {
    const d = draws(seed);
    const n = drawn(d);
    const off = { segment: d.one(n.subnets).segment, hub: n.at.length > 0 ? d.one(n.at).hub : "" };
    const [segment, hub] = [d.one(segments.slice(1)), d.one(hubs)];
    const to = dropped(n, segment, hub, off);
    const was = placed(n);
    for (const s of n.subnets)
      expect(to.segments[s.name]).toBe(s.segment === off.segment ? segment : s.segment);
    expect(to.at.filter((a) => a.hub === hub)).toHaveLength(1);
    for (const a of was.at)
      if (a.hub !== off.hub && a.hub !== hub) expect(to.at, `seed ${seed}`).toContainEqual(a);
    expect(to.at.length).toBeGreaterThanOrEqual(Math.max(1, was.at.length - 1));
  }
});
