import type { Schemas } from "../api/client";

export const end = (address: string): Schemas["End"] => ({
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

export const path: Schemas["Path"] = {
  kind: "hub",
  lost: [{ what: "exit", name: "fen-out", why: "it is down" }],
  absence: "",
  why: "",
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

export const matchingRule = (
  name: string,
  standing: Schemas["MatchingRule"]["standing"],
): Schemas["MatchingRule"] => ({
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

export const trace = (
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
  rules: [],
  default: { action: "deny", why: "segment", holds: false },
  guardrails: [],
  enforced: true,
  pools: [],
  back: path,
  publication: "",
  ...rest,
});
