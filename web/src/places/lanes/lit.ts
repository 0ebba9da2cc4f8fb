import type { Schemas } from "../../api/client";

/** What stands out on the plane while the scope of a rule object is shown. */
export interface Lit {
  /** Lanes by name, the internet as "". */
  lanes: Set<string>;
  /** Networks, by lane and name. */
  networks: Set<string>;
  /** Hubs at which flows of it pass a pool. */
  hubs: Set<string>;
  /** Those pools. */
  pools: Set<string>;
  /** The share that it is, "" for others. */
  share: string;
}

export const litKey = (lane: string, network: string) => `${lane} ${network}`;

/** Whether a network is dimmed in a lane: of a pool, no networks are known, only lanes. */
export const isDim = (lit: Lit | null, lane: string, network: string) =>
  lit !== null && (lit.networks.size > 0 ? !lit.networks.has(litKey(lane, network)) : !lit.lanes.has(lane));

/** What the scope of an object concerns; of a pool, the lanes whose flows pass it. */
export function litBy(of: Schemas["Thing"], scope: Schemas["ObjectScope"]): Lit {
  const lit: Lit = {
    lanes: new Set(),
    networks: new Set(),
    hubs: new Set(),
    pools: new Set(scope.pools),
    share: of.kind === "share" ? of.name : "",
  };
  for (const side of [scope.from, scope.to]) {
    for (const p of side.places) {
      lit.lanes.add(p.segment);
      lit.networks.add(litKey(p.segment, p.network));
    }
    if (side.internet) lit.lanes.add("");
  }
  for (const p of scope.passes) {
    lit.hubs.add(p.hub);
    lit.lanes.add(p.from).add(p.to);
  }
  return lit;
}
