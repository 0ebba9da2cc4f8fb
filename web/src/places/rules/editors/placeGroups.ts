import type { Schemas } from "../../../api/client";
import type { Choice } from "../../../parts/Combobox";
import type { Rules } from "../kinds";

type Group = Schemas["Group"];

const prefix = /^([0-9]+(\.[0-9]+){3}|[0-9a-f]*:[0-9a-f:.]*)\/[0-9]+$/;

/** The networks and subnets that can stand where a group is asked for. */
export function placeChoices(rules: Rules): Choice[] {
  const groups = new Set(rules.groups.map((g) => g.name));
  return rules.networks.flatMap((n) => [
    ...(groups.has(n.name) ? [] : [{ text: n.name, hint: "all of the network", kind: "network" }]),
    ...n.subnets.map((s) => ({ text: s, hint: "all of the subnet", kind: "subnet" })),
  ]);
}

/**
 * The group that stands for a network, a subnet (network/subnet) or a prefix:
 * one that there is, or a new one. Undefined for other words, and for the names
 * of groups.
 */
export function groupOfPlace(rules: Rules, words: string): { group: Group; fresh: boolean } | undefined {
  if (rules.groups.some((g) => g.name === words)) return undefined;
  const holds = placeOf(rules, words);
  if (!holds) return undefined;
  const there = rules.groups.find((g) => isJust(g, holds));
  if (there) return { group: there, fresh: false };
  return { group: { name: freeName(rules, words), ...holds }, fresh: true };
}

function placeOf(rules: Rules, words: string): Omit<Group, "name"> | undefined {
  if (prefix.test(words)) return { prefixes: [words] };
  if (rules.networks.some((n) => n.name === words)) return { networks: [words] };
  if (rules.networks.some((n) => n.subnets.includes(words))) return { subnets: [words] };
  return undefined;
}

/** Whether a group holds a place and nothing else. */
function isJust(group: Group, place: Omit<Group, "name">): boolean {
  const { match, within, networks, networkMatch, subnets, prefixes, exits } = group;
  const has = { networks, subnets, prefixes };
  return (
    !match &&
    !within &&
    !networkMatch &&
    !exits?.length &&
    (["networks", "subnets", "prefixes"] as const).every(
      (key) => (has[key] ?? []).join() === (place[key] ?? []).join(),
    )
  );
}

/** A name for the group of a place, which no group has. */
function freeName(rules: Rules, words: string): string {
  const like = /^[a-z]/.test(words) ? words.replaceAll("/", "-") : `net-${words.replace(/[/:]+/g, "-")}`;
  const used = new Set(rules.groups.map((g) => g.name));
  let name = like;
  for (let n = 2; used.has(name); n++) name = `${like}-${n}`;
  return name;
}
