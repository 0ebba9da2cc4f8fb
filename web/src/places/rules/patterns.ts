import type { EstateEdit, Operation } from "../../api/queries";
import { freeName } from "./kinds";
import type { Rules } from "./kinds";

type FieldKind =
  "segment" | "segments" | "group" | "services" | "pool" | "exit" | "exits" | "network" | "text";

/** One choice of a pattern, as it stands in its sentence. */
export interface PatternField {
  kind: FieldKind;
  label: string;
  optional?: boolean;
}

export type Values = Record<string, string[]>;

/** A usual task, as a sentence with choices, that ends in an edit. */
export interface Pattern {
  key: string;
  title: string;
  says: string;
  /** Words and the keys of fields, in the order of the sentence. */
  sentence: string[];
  fields: Record<string, PatternField>;
  edit: (v: Values, rules: Rules) => EstateEdit;
}

const one = (v: Values, key: string) => v[key]?.[0] ?? "";
const many = (v: Values, key: string) => v[key] ?? [];

const put = (kind: Operation["kind"], object: Record<string, unknown>, base?: string): Operation => ({
  op: "put",
  kind,
  object,
  ...(base && { base }),
});

const added = (kind: Operation["kind"], object: Record<string, unknown>) => put(kind, object, "absent");

const free = (like: string, list: { name: string }[]) =>
  freeName(
    like.slice(0, 60),
    list.map((o) => o.name),
  );

/** Rules that allow services, or let a pool inspect them. */
const passing = (services: string[], pool: string) =>
  pool === "" ? [{ services, action: "allow" }] : [{ services, action: "inspect", pool }];

/** Whether every choice that is needed is made. */
export const isComplete = (p: Pattern, v: Values) =>
  Object.entries(p.fields).every(([key, f]) => f.optional || many(v, key).filter(Boolean).length > 0);

export const patterns: Pattern[] = [
  {
    key: "isolate",
    title: "Isolate a segment",
    says: "No share reaches it or leaves it, no exit serves it, nothing in it is published, and what no policy permits inside it is denied.",
    sentence: ["Isolate", "segment"],
    fields: { segment: { kind: "segment", label: "segment" } },
    edit: (v, rules) => {
      const name = one(v, "segment");
      const operations: Operation[] = [];
      const segment = rules.segments.find((s) => s.name === name);
      if (segment && segment.default === "allow") {
        operations.push(put("segment", { ...segment, default: "deny" }));
      }
      for (const s of rules.shares) {
        if (s.enabled !== false && (s.owner.segment === name || s.guest.segment === name)) {
          operations.push(put("share", { ...s, enabled: false }));
        }
      }
      for (const p of rules.publications) {
        if (p.to.segment === name) {
          operations.push({ op: "delete", kind: "publication", name: p.name }); // no exit serves it any more
        }
      }
      for (const x of rules.exits) {
        const rest = x.segments.filter((s) => s !== name);
        if (rest.length < x.segments.length) {
          operations.push(put("exit", { ...x, segments: rest }));
        }
      }
      return { operations };
    },
  },
  {
    key: "common",
    title: "Offer services to several segments",
    says: "One share for each segment that may reach them; everything else between the segments stays closed.",
    sentence: ["Offer", "services", "of", "group", "in", "owner", "to segments", "guests", "through", "pool"],
    fields: {
      services: { kind: "services", label: "services" },
      group: { kind: "group", label: "group" },
      owner: { kind: "segment", label: "segment of the group" },
      guests: { kind: "segments", label: "segments that may reach it" },
      pool: { kind: "pool", label: "pool", optional: true },
    },
    edit: (v, rules) => ({
      operations: many(v, "guests")
        .filter((guest) => guest !== one(v, "owner"))
        .map((guest) =>
          added("share", {
            name: free(`${one(v, "group")}-for-${guest}`, rules.shares),
            owner: { segment: one(v, "owner"), groups: [one(v, "group")] },
            guest: { segment: guest, groups: "any" },
            rules: passing(many(v, "services"), one(v, "pool")),
          }),
        ),
    }),
  },
  {
    key: "internet",
    title: "Internet for a group through a firewall",
    says: "The named services are inspected; everything else of the group to the internet is denied.",
    sentence: [
      "Let",
      "group",
      "in",
      "segment",
      "use",
      "services",
      "on the internet through",
      "pool",
      "at exits",
      "exits",
    ],
    fields: {
      group: { kind: "group", label: "group" },
      segment: { kind: "segment", label: "segment" },
      services: { kind: "services", label: "services" },
      pool: { kind: "pool", label: "pool" },
      exits: { kind: "exits", label: "exits" },
    },
    edit: (v, rules) => {
      const [operations, exits] = exitGroup(many(v, "exits"), rules);
      return {
        operations: [
          ...operations,
          added("policy", {
            name: free(`${one(v, "group")}-internet`, rules.policies),
            segments: [one(v, "segment")],
            from: [one(v, "group")],
            to: [exits],
            rules: [...passing(many(v, "services"), one(v, "pool")), { services: ["any"], action: "deny" }],
          }),
        ],
      };
    },
  },
  {
    key: "partner",
    title: "A partner reaches one place on named services",
    says: "A share of one group, for one group of the partner's segment.",
    sentence: [
      "Let",
      "partner",
      "of",
      "guest",
      "reach",
      "group",
      "of",
      "owner",
      "on",
      "services",
      "through",
      "pool",
    ],
    fields: {
      partner: { kind: "group", label: "group of the partner" },
      guest: { kind: "segment", label: "segment of the partner" },
      group: { kind: "group", label: "group that is reached" },
      owner: { kind: "segment", label: "segment that is reached" },
      services: { kind: "services", label: "services" },
      pool: { kind: "pool", label: "pool", optional: true },
    },
    edit: (v, rules) => ({
      operations: [
        added("share", {
          name: free(`${one(v, "group")}-for-${one(v, "partner")}`, rules.shares),
          owner: { segment: one(v, "owner"), groups: [one(v, "group")] },
          guest: { segment: one(v, "guest"), groups: [one(v, "partner")] },
          rules: passing(many(v, "services"), one(v, "pool")),
        }),
      ],
    }),
  },
  {
    key: "apart",
    title: "Two groups never meet",
    says: "Two guardrails deny all flows between them, whatever policies and shares say.",
    sentence: ["Keep", "a", "and", "b", "apart"],
    fields: {
      a: { kind: "group", label: "first group" },
      b: { kind: "group", label: "second group" },
    },
    edit: (v, rules) => ({
      operations: [
        [one(v, "a"), one(v, "b")],
        [one(v, "b"), one(v, "a")],
      ].map(([from = "", to = ""]) =>
        added("policy", {
          name: free(`never-${from}-to-${to}`, rules.policies),
          tier: "guardrail",
          from: [from],
          to: [to],
          rules: [{ services: ["any"], action: "deny" }],
        }),
      ),
    }),
  },
  {
    key: "publish",
    title: "Publish a service",
    says: "A public address at an exit, and a policy that lets the internet reach it through a firewall.",
    sentence: [
      "Publish",
      "services",
      "of",
      "group",
      "in",
      "segment",
      "as",
      "address",
      "at",
      "exit",
      "through",
      "pool",
    ],
    fields: {
      services: { kind: "services", label: "services" },
      group: { kind: "group", label: "group" },
      segment: { kind: "segment", label: "segment" },
      address: { kind: "text", label: "public address" },
      exit: { kind: "exit", label: "exit" },
      pool: { kind: "pool", label: "pool", optional: true },
    },
    edit: (v, rules) => {
      const [operations, exits] = exitGroup(many(v, "exit"), rules);
      return {
        operations: [
          ...operations,
          added("publication", {
            name: free(`${one(v, "group")}-public`, rules.publications),
            exit: one(v, "exit"),
            address: one(v, "address"),
            services: many(v, "services"),
            to: { segment: one(v, "segment"), groups: [one(v, "group")] },
          }),
          added("policy", {
            name: free(`${one(v, "group")}-public`, rules.policies),
            segments: [one(v, "segment")],
            from: [exits],
            to: [one(v, "group")],
            rules: passing(many(v, "services"), one(v, "pool")),
          }),
        ],
      };
    },
  },
  {
    key: "gateway",
    title: "Protect a network that has a gateway of its own",
    says: "Its default route leads to the hub, so that policies and firewalls see what it sends to the internet.",
    sentence: ["Route the internet traffic of", "network", "to its hub"],
    fields: { network: { kind: "network", label: "network" } },
    edit: (v) => ({
      wiring: [{ op: "set-route", network: one(v, "network"), prefix: "0.0.0.0/0", via: "hub" }],
    }),
  },
];

/** The group that has just these exits, added if there is none. */
function exitGroup(exits: string[], rules: Rules): [Operation[], string] {
  const wanted = [...exits].sort().join(" ");
  const known = rules.groups.find(
    (g) =>
      [...(g.exits ?? [])].sort().join(" ") === wanted &&
      !g.match &&
      !g.networks?.length &&
      !g.prefixes?.length,
  );
  if (known) return [[], known.name];
  const name = free(exits.length === 1 ? `by-${exits[0] ?? ""}` : "by-exits", rules.groups);
  return [[added("group", { name, exits })], name];
}
