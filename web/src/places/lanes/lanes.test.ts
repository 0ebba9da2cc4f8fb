import { describe, expect, it } from "vitest";
import { attachState } from "./estate";
import { cellKey, fitting, layout } from "./plane/layout";
import type { Network, Told } from "./estate";
import { chosenBy, editsOf as manyEdits } from "./sheets/GroupSheet";
import { attach, estate, network } from "../../testing/estates";
import { dropped, editsOf, placed } from "./sheets/placing";

const none: Told = new Map();

describe("the plan of lanes", () => {
  for (const [lanes, hubs, networks] of [
    [4, 3, 18],
    [32, 24, 2000],
  ] as const) {
    for (const detail of ["far", "counts", "names", "all"] as const) {
      it(`lets nothing overlap with ${lanes} x ${hubs} x ${networks}, ${detail}`, () => {
        const e = estate(lanes, hubs, networks);
        const plan = layout(e, detail, none, 1200);
        plan.lanes.forEach((l, i) => expect(l.top).toBe(i === 0 ? plan.head : bottom(plan.lanes[i - 1])));
        let drawn = 0;
        const wrong: string[] = []; // counted, for an assertion each would take seconds
        for (const cell of plan.cells.values()) {
          const lane = plan.lanes[cell.lane];
          const column = plan.columns[cell.column];
          if (!lane || !column) throw new Error("a place without a lane or a column");
          drawn += cell.chips.length + cell.folded;
          expect(cell.count).toBe(cell.chips.length + cell.folded);
          cell.chips.forEach((c, i) => {
            const [right, bottom] = [column.left + column.width, lane.top + lane.height];
            if (
              c.x < column.left ||
              c.x + c.width > right ||
              c.y <= lane.rail ||
              c.y + plan.sizes.chip > bottom
            )
              wrong.push(`${c.network.name} is outside its place`);
            for (const o of cell.chips.slice(0, i))
              if (o.y === c.y && o.x + o.width > c.x) wrong.push(`${o.network.name} and ${c.network.name}`);
          });
        }
        const expected = e.networks.reduce((n, x) => n + new Set(x.subnets.map((s) => s.segment)).size, 0);
        expect(drawn).toBe(expected);
        for (const tracks of [
          plan.links,
          plan.bridges.map((b) => ({ from: b.lanes[0], to: b.lanes[1], track: b.track })),
        ])
          tracks.forEach((a, i) =>
            tracks.slice(0, i).forEach((b) => {
              if (a.track === b.track && a.to > b.from && b.to > a.from)
                wrong.push(`tracks ${a.track} and ${b.track}`);
            }),
          );
        expect(wrong).toEqual([]);
      });
    }
  }

  it("draws the bridges of one lane where there are too many", () => {
    const e = estate(20, 5, 40);
    expect(layout(e, "names", none, 1200).bridges).toEqual([]);
    const plan = layout(e, "names", none, 1200, "", "lane-03");
    expect(plan.crowded).toBe(true);
    const lane = plan.lanes.findIndex((l) => l.name === "lane-03");
    const drawn = plan.bridges.flatMap((b) => b.shares.map((s) => s.name)).sort();
    const own = e.shares.filter((s) => s.owner !== s.guest && [s.owner, s.guest].includes("lane-03"));
    expect(drawn).toEqual(own.map((s) => s.name).sort());
    expect(plan.bridges.every((b) => b.lanes.includes(lane))).toBe(true);
    expect(drawn.length).toBeGreaterThan(0);
  });

  it("stays where it is when a network comes, but for the lane it comes to", () => {
    const e = estate(6, 5, 40);
    const before = layout(e, "names", none, 1200);
    const after = layout(
      { ...e, networks: [...e.networks, network("zz", ["lane-03"], ["hub-02"])] },
      "names",
      none,
      1200,
    );
    expect(after.columns).toEqual(before.columns);
    for (const [key, cell] of before.cells) {
      if (key === cellKey(3, 2)) continue;
      const names = (c: typeof cell | undefined) => c?.chips.map((x) => `${x.network.name} ${x.x}`);
      expect(names(after.cells.get(key))).toEqual(names(cell));
    }
  });

  it("shows what is unhealthy, though the rest of its place is folded", () => {
    const e = estate(1, 1, 60);
    const told: Told = new Map([["uplink:net-57", { state: "down", why: "cut" }]]);
    const cell = layout(e, "names", told, 1200).cells.get(cellKey(0, 0));
    expect(cell?.chips[0]?.network.name).toBe("net-57");
    expect(cell?.unhealthy).toBe(1);
    expect(attachState(told, e.networks[57] as Network, attach("hub-00")).why).toBe("cut");
  });

  it("draws a small estate by name, and a large one from afar", () => {
    expect(fitting(estate(4, 3, 18), 1240)).toBe("names");
    expect(fitting(estate(32, 24, 2000), 1240)).toBe("far");
  });
});

describe("placing", () => {
  it("changes nothing where nothing is moved", () => {
    const n = network("n", ["a", "b"], ["h"]);
    expect(editsOf(n, placed(n))).toEqual([]);
  });

  it("moves what was in the lane that a network is taken from, and its attachment", () => {
    const n = network("n", ["a", "b"], ["h"]);
    const edits = editsOf(n, dropped(n, "c", "k", { segment: "a", hub: "h" }));
    expect(edits).toEqual([
      { op: "live", network: "n", subnet: "s0", segment: "c" },
      { op: "attach", network: "n", hub: "k", cost: 1 },
      { op: "detach", network: "n", hub: "h" },
    ]);
  });

  it("translates a subnet at every attachment, and at one that comes", () => {
    const n = network("n", ["a"], ["h", "k"]);
    const wanted = { ...placed(n), outside: { s0: "100.64.0.0/24" } };
    const ops = (edits: ReturnType<typeof editsOf>) =>
      edits.map((e) => `${e.op} ${e.hub} ${e.segment} ${e.outside}`);
    expect(ops(editsOf(n, wanted))).toEqual(["translate h a 100.64.0.0/24", "translate k a 100.64.0.0/24"]);
    const shown = { ...n, subnets: n.subnets.map((s) => ({ ...s, outside: "100.64.0.0/24" })) };
    const more = { ...placed(shown), at: [...placed(shown).at, { hub: "m", cost: 5, uplink: "" }] };
    expect(ops(editsOf(shown, more))).toEqual([
      "attach m undefined undefined",
      "translate m a 100.64.0.0/24",
    ]);
    const no = { ...placed(shown), outside: { s0: "" } };
    expect(editsOf(shown, no).map((e) => e.op)).toEqual(["untranslate", "untranslate"]);
  });

  it("places all of a network from the tray that no segment holds", () => {
    const n = network("n", ["", "b"], []);
    const edits = editsOf(n, dropped(n, "c", "k", { segment: "", hub: "" }));
    expect(edits.map((e) => e.op)).toEqual(["live", "attach"]);
  });
});

describe("placing many", () => {
  it("chooses by labels, and leaves alone what is placed so already", () => {
    const a = { ...network("a", [""], []), labels: { use: "farm", zone: "n" } };
    const b = { ...network("b", ["x"], ["h"]), labels: { use: "farm" } };
    expect(chosenBy([a, b], "use=farm").length).toBe(2);
    expect(chosenBy([a, b], "use=farm, zone").map((n) => n.name)).toEqual(["a"]);
    expect(chosenBy([a, b], "use=")).toEqual([]);
    expect(manyEdits([a, b], "x", "h").map((e) => `${e.op} ${e.network}`)).toEqual(["live a", "attach a"]);
  });
});

const bottom = (l: { top: number; height: number } | undefined) => (l ? l.top + l.height : 0);
