import type { Schemas } from "../api/client";
import type { Estate, Network } from "../places/lanes/estate";

export const attach = (hub: string, more: Partial<Schemas["LaneAttach"]> = {}) => ({
  hub,
  cost: 1,
  state: "up",
  why: "",
  uplink: "",
  waiting: 0,
  static: [],
  accepts: null,
  announces: null,
  ...more,
});

export function network(name: string, segments: string[], hubs: string[]): Network {
  return {
    name,
    kind: "cloud",
    account: "",
    region: "",
    gone: false,
    labels: {},
    segment: "",
    subnets: segments.map((segment, i) => ({
      name: `s${i}`,
      prefix: `10.0.${i}.0/24`,
      segment,
      outside: "",
    })),
    at: hubs.map((h) => attach(h)),
  };
}

/** An estate of so many lanes, columns and networks, with links and shares between many of them. */
export function estate(lanes: number, hubs: number, networks: number): Estate {
  const lane = (i: number) => `lane-${String(i % lanes).padStart(2, "0")}`;
  const hub = (i: number) => `hub-${String(i % hubs).padStart(2, "0")}`;
  return {
    revision: 1,
    counting: false,
    hubs: Array.from({ length: hubs }, (_, i) => ({ name: hub(i), account: "", region: "" })),
    segments: Array.from({ length: lanes }, (_, i) => ({ name: lane(i), default: "deny" as const })),
    links: Array.from({ length: 2 * hubs }, (_, i) => ({
      name: `${i}`,
      between: [hub(i), hub(i * 7 + 1)],
      cost: 10,
      state: "up",
      segments: [],
      why: "",
    })).filter((l) => l.between[0] !== l.between[1]),
    networks: Array.from({ length: networks }, (_, i) =>
      network(`net-${i}`, [lane(i), lane(i * i)], [hub(i * 3)]),
    ),
    peerings: [{ between: ["net-0", "net-1"], offersHub: "" }],
    exits: [{ name: "out", hub: hub(0), state: "up", segments: [lane(0)], published: [] }],
    shares: Array.from({ length: lanes * 4 }, (_, i) => ({
      name: `share-${i}`,
      owner: lane(i),
      guest: lane(i * 5 + 1),
      direction: "inbound" as const,
      show: [],
      enabled: true,
    })),
    gates: [
      { pool: "p", hub: hub(1), onFailure: "closed", firewalls: [], segments: [lane(0)], internet: false },
    ],
  };
}
