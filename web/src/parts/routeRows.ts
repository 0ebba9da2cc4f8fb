import type { Schemas } from "../api/client";

/** Routes that change alike, at the same hubs: those of the subnets of one network mostly do. */
export type RouteRow = Omit<Schemas["RouteChange"], "prefix"> & { prefixes: string[] };

/** Changes of routes, those that are alike as one row, in the order of the first of each. */
export function routeRows(routes: Schemas["RouteChange"][]): RouteRow[] {
  const rows = new Map<string, RouteRow>();
  for (const { prefix, ...change } of routes) {
    const key = JSON.stringify([change.segment, change.before, change.after, change.hubs]);
    const row = rows.get(key);
    if (row) row.prefixes.push(prefix);
    else rows.set(key, { ...change, prefixes: [prefix] });
  }
  return [...rows.values()];
}
