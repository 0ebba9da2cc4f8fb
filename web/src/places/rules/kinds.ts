import type { Schemas } from "../../api/client";
import type { Kind } from "../../api/queries";
import { ruleWords, serviceText, sideWords } from "../../parts/wording";

export type Rules = Schemas["Rules"];

/** The kinds of objects that are written here, in the order in which they are listed. */
export const ruleKinds = [
  "policy",
  "share",
  "publication",
  "expectation",
  "group",
  "service",
  "pool",
  "rulebook",
  "segment",
  "exit",
] as const;

export type RuleKind = (typeof ruleKinds)[number];

export const isRuleKind = (kind: string): kind is RuleKind => (ruleKinds as readonly string[]).includes(kind);

/** An object of any of these kinds, as the document has it. */
export type RuleObject = { name: string; description?: string; enabled?: boolean } & Record<string, unknown>;

interface About {
  /** How the kind is called, and several of it. */
  one: string;
  many: string;
  list: (rules: Rules) => RuleObject[];
  /** What the object says, in one line. */
  says: (object: never) => string;
  /** A new one, as little as can be said. */
  blank: (rules: Rules) => Omit<RuleObject, "name">;
  switches?: boolean;
}

const list = (objects: unknown) => objects as RuleObject[];
const services = (refs: Schemas["ServiceRef"][]) => refs.map(serviceText).join(", ") || "no service";
const endWords = (end: Schemas["Expectation"]["from"]) =>
  end === "internet" ? "internet" : `${sideWords(end.groups)} of ${end.segment}`;
const first = (named: { name: string }[]) => named[0]?.name ?? "";

export const kinds: Record<RuleKind, About> = {
  policy: {
    one: "policy",
    many: "policies",
    list: (r) => list(r.policies),
    says: (p: Schemas["Policy"]) =>
      `${sideWords(p.from)} → ${sideWords(p.to)}: ${p.rules.map(ruleWords).join(", ") || "no rule"}`,
    blank: (r) => ({
      segments: r.segments.length > 0 ? [first(r.segments)] : "all",
      from: [],
      to: [],
      rules: [{ services: ["any"], action: "deny" }],
    }),
    switches: true,
  },
  share: {
    one: "share",
    many: "shares",
    list: (r) => list(r.shares),
    says: (s: Schemas["Share"]) =>
      `${s.guest.segment} → ${s.owner.segment}: ${s.rules.map(ruleWords).join(", ")}`,
    blank: (r) => ({
      owner: { segment: first(r.segments), groups: [] },
      guest: { segment: r.segments[1]?.name ?? first(r.segments), groups: [] },
      rules: [{ services: ["any"], action: "deny" }],
    }),
    switches: true,
  },
  publication: {
    one: "publication",
    many: "publications",
    list: (r) => list(r.publications),
    says: (p: Schemas["Publication"]) => `${p.address}: ${services(p.services)} to ${endWords(p.to)}`,
    blank: (r) => ({
      exit: first(r.exits),
      address: "",
      services: ["tcp/443"],
      to: { segment: r.exits[0]?.segments[0] ?? "", groups: [] },
    }),
    switches: true,
  },
  expectation: {
    one: "expectation",
    many: "expectations",
    list: (r) => list(r.expectations),
    says: (x: Schemas["Expectation"]) =>
      `${endWords(x.from)} → ${endWords(x.to)} on ${services(x.services)}: ${x.expect}`,
    blank: (r) => ({
      from: { segment: first(r.segments), groups: "any" },
      to: "internet",
      services: ["any"],
      expect: "denied",
    }),
  },
  group: {
    one: "group",
    many: "groups",
    list: (r) => list(r.groups),
    says: groupWords,
    blank: () => ({ match: "" }),
  },
  service: {
    one: "service",
    many: "services",
    list: (r) => list(r.services),
    says: (s: Schemas["Service"]) => services(s.terms),
    blank: () => ({ terms: [] }),
  },
  pool: {
    one: "firewall pool",
    many: "firewall pools",
    list: (r) => list(r.pools),
    says: (p: Schemas["Pool"]) => {
      const hubs = [...new Set((p.firewalls ?? []).map((f) => f.hub))];
      return hubs.length > 0 ? `at ${hubs.join(", ")}` : "no firewall";
    },
    blank: (r) => ({ firewalls: r.hubs[0] ? [{ name: "", hub: r.hubs[0] }] : [] }),
  },
  rulebook: {
    one: "rulebook",
    many: "rulebooks",
    list: (r) => list(r.rulebooks),
    says: (b: Schemas["Rulebook"]) =>
      b.rules.map((x) => `${x.action} ${services(x.services)}`).join(", ") || "no rule",
    blank: () => ({ rules: [{ from: "any", to: "any", services: ["any"], action: "pass" }] }),
  },
  segment: {
    one: "segment",
    many: "segments",
    list: (r) => list(r.segments),
    says: (s: Schemas["Segment"]) => `default: ${s.default ?? "deny"}`,
    blank: () => ({}),
  },
  exit: {
    one: "exit",
    many: "exits",
    list: (r) => list(r.exits),
    says: (x: Schemas["Exit"]) => `at ${x.hub}, for ${x.segments.join(", ")}`,
    blank: (r) => ({ hub: r.hubs[0] ?? "", segments: r.segments.length > 0 ? [first(r.segments)] : [] }),
  },
};

/** How the members of a group are selected. */
export function groupWords(g: Schemas["Group"]): string {
  const parts = [
    g.match,
    g.networks?.length ? `networks ${g.networks.join(", ")}` : "",
    g.networkMatch ? `networks with ${g.networkMatch}` : "",
    g.subnets?.length ? `subnets ${g.subnets.join(", ")}` : "",
    g.prefixes?.join(", "),
    g.exits?.length ? `exits ${g.exits.join(", ")}` : "",
  ].filter(Boolean);
  return (parts.join(" or ") || "selects nothing") + (g.within ? `, within ${g.within}` : "");
}

/** What an object says, in one line. */
export const says = (kind: RuleKind, object: RuleObject): string => kinds[kind].says(object as never);

/** A name for a new object that nothing of its kind has: new-policy, new-policy-2 … */
export function freeName(like: string, taken: Iterable<string>): string {
  const names = new Set(taken);
  if (!names.has(like)) return like;
  for (let n = 2; ; n++) if (!names.has(`${like}-${n}`)) return `${like}-${n}`;
}

/** The address at which an object is written. */
export const addressOf = (kind: Kind, name: string) => `/rules/${kind}/${encodeURIComponent(name)}`;

/** The names that an object refers to, by kind: what the list is narrowed by. */
export function refersTo(object: RuleObject): {
  segments: string[];
  groups: string[];
  services: string[];
  pools: string[];
} {
  const out = {
    segments: new Set<string>(),
    groups: new Set<string>(),
    services: new Set<string>(),
    pools: new Set<string>(),
  };
  const names = (value: unknown, into: Set<string>) => {
    if (Array.isArray(value)) for (const v of value) if (typeof v === "string") into.add(v);
  };
  const walk = (value: unknown) => {
    if (Array.isArray(value)) return value.forEach(walk);
    if (typeof value !== "object" || value === null) return;
    for (const [key, v] of Object.entries(value)) {
      if (key === "segments" || key === "fromSegments" || key === "toSegments") names(v, out.segments);
      else if (key === "segment" && typeof v === "string") out.segments.add(v);
      else if (key === "from" || key === "to" || key === "groups") {
        names(v, out.groups);
        walk(v);
      } else if (key === "within" && typeof v === "string") out.groups.add(v);
      else if (key === "services") names(v, out.services);
      else if (key === "pool" && typeof v === "string") out.pools.add(v);
      else walk(v);
    }
  };
  walk(object);
  return {
    segments: [...out.segments],
    groups: [...out.groups],
    services: [...out.services],
    pools: [...out.pools],
  };
}
