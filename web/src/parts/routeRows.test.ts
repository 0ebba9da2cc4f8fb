import { expect, test } from "vitest";
import { draws } from "../testing/draws";
import { routeRows } from "./routeRows";

test("rows say of each prefix what its route did, once, and are alike nowhere", () => {
  for (let seed = 1; seed <= 200; seed++) {
    const d = draws(seed);
    const routes = Array.from({ length: d.below(30) }, (_, i) => ({
      prefix: `10.0.${i}.0/24`,
      segment: d.one(["office", "turbine"]),
      before: d.one(["", "lab at ridge"]),
      after: d.one(["", "lab at delta"]),
      hubs: d.one([["ridge"], ["delta", "ridge"]]),
    }));
    const rows = routeRows(routes);
    const said = rows.flatMap(({ prefixes, ...change }) => prefixes.map((prefix) => ({ ...change, prefix })));
    const byPrefix = (a: { prefix: string }, b: { prefix: string }) => (a.prefix < b.prefix ? -1 : 1);
    expect(said.sort(byPrefix), `seed ${seed}`).toEqual([...routes].sort(byPrefix));
    const alike = rows.map((r) => JSON.stringify({ ...r, prefixes: [] }));
    expect(new Set(alike).size, `seed ${seed}`).toBe(rows.length);
    const firsts = rows.map((r) => routes.findIndex((x) => x.prefix === r.prefixes[0]));
    expect(firsts, `seed ${seed}: in the order of the first`).toEqual([...firsts].sort((a, b) => a - b));
  }
});
