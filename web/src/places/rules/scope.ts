import type { Schemas } from "../../api/client";
import { serviceText } from "../../parts/wording";
import type { RuleKind, RuleObject } from "./kinds";

/** A cell of the board, and a question about it. */
export interface Scope {
  row: string;
  col: string;
  open: string[];
  from: string;
  to: string;
  on: string;
}

/** Where an object is at work: the cell of its first sides, and the question that it decides. */
export function scopeOf(
  kind: RuleKind,
  object: RuleObject,
  about: Schemas["About"] | undefined,
): Scope | null {
  const external = new Set(
    about?.sides.flatMap((s) => s.groups.filter((g) => g.external && g.workloads === 0).map((g) => g.name)),
  );
  const sideIn = (segment: string, side: Schemas["Side"]) => sideOf(segment, side, external);
  switch (kind) {
    case "policy": {
      const p = object as unknown as Schemas["Policy"];
      const [segment] = listed(p.segments ?? p.fromSegments);
      if (!segment) return null;
      return between(sideIn(segment, p.from), sideIn(segment, p.to), services(p.rules[0]?.services));
    }
    case "share": {
      const s = object as unknown as Schemas["Share"];
      const guest = sideIn(s.guest.segment, s.guest.groups);
      return between(guest, sideIn(s.owner.segment, s.owner.groups), services(s.rules[0]?.services));
    }
    case "publication": {
      const p = object as unknown as Schemas["Publication"];
      return between(internet, sideIn(p.to.segment, p.to.groups), services(p.services));
    }
    case "expectation": {
      const x = object as unknown as Schemas["Expectation"];
      const end = (e: Schemas["Expectation"]["from"]) =>
        e === "internet" ? internet : sideIn(e.segment, e.groups);
      return between(end(x.from), end(x.to), services(x.services));
    }
    default:
      return null;
  }
}

interface Side {
  node: string;
  name: string;
  segment: string;
}

const internet: Side = { node: "internet", name: "internet", segment: "" };

const listed = (scope: Schemas["Scope"] | undefined) => (Array.isArray(scope) ? scope : []);

const services = (refs: Schemas["ServiceRef"][] | undefined) => refs?.map(serviceText).join(", ") || "any";

/** The first group of a side in a segment; a group of exits is on the internet. */
function sideOf(segment: string, side: Schemas["Side"], external: Set<string>): Side {
  const [group] = typeof side === "string" ? [] : side;
  if (!group) return { node: segment, name: segment, segment };
  if (external.has(group)) return internet;
  return { node: `${segment}/${group}`, name: group, segment };
}

function between(from: Side, to: Side, on: string): Scope {
  const open = [...new Set([from, to].filter((s) => s.node.includes("/")).map((s) => s.segment))];
  return { row: from.node, col: to.node, open, from: from.name, to: to.name, on };
}
