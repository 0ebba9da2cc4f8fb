import type { Schemas } from "../../api/client";

/** A fault or finding, with a key that an address can hold: what it says decides it, so that it stays when others come and go. */
export type Listed = Schemas["Trouble"] & { key: string };

/** Troubles of one code. */
export interface Kind {
  code: string;
  title: string;
  why: string;
  list: Listed[];
}

/** What the codes are called, why they matter, and how they are mended; in the order of the list. */
const titles: Record<string, [string, string, string]> = {
  contested: [
    "Contested",
    "policies disagree, and none is narrower",
    "Give them the same action, or let one of the two groups stand within the other: the narrower then speaks.",
  ],
  "guardrail-not-enforced": [
    "Guardrails not enforced",
    "nothing on the way holds them",
    "Lead the flows through a hub, or let the network enforce verdicts itself.",
  ],
  bypass: [
    "Past every hub",
    "flows leave by a gateway of the network's own",
    "Point the default route of the network's table to its hub, and take the gateway away.",
  ],
  unenforced: [
    "Not enforced",
    "nothing on the way does what is meant",
    "Let the network enforce verdicts, or lead the flows through a hub.",
  ],
  uninspectable: [
    "Not inspectable",
    "no firewall sees the way, so it is denied",
    "Attach the networks so that the way passes a hub with a firewall, or inspect only what passes one.",
  ],
  "failed-open": [
    "Failed open",
    "flows go by firewalls that are down",
    "Bring a firewall of the pool back, or let the pool close on failure.",
  ],
  "no-firewall": [
    "No firewall in reach",
    "flows are denied for want of one",
    "Add a firewall of the pool at a hub on the way, or bring one back.",
  ],
  asymmetric: [
    "Asymmetric",
    "the reply goes past the firewall",
    "Route the reply through the same hub: take the peering's route out, or attach both networks alike.",
  ],
  "one-way": [
    "One way",
    "packets arrive, and replies do not",
    "Give the far network a route back: an attachment, or a peering that offers its hub.",
  ],
  "meant-but-unrouted": [
    "Meant, and no way",
    "rules let it pass, and there is no path",
    "Attach the network, accept or announce its prefix, or take the rule away.",
  ],
  "unreached-rule": [
    "Rules that no flow reaches",
    "shadowed, or empty",
    "Move the rule above the one that shadows it, or take it away.",
  ],
  "empty-side": [
    "Empty sides",
    "a policy speaks for nobody",
    "Mend the group's labels, or take the policy away.",
  ],
  "same-members": [
    "Same members",
    "two groups hold the same, and neither stands within the other",
    "Let one stand within the other, or write the policies with one group.",
  ],
  "joining-peering": [
    "Peerings that join segments",
    "",
    "Take the peering away, and share between the segments what has to be reached.",
  ],
  "learned-waits": [
    "Learned prefixes that wait",
    "somebody has to accept or refuse them",
    "Accept the prefix where nothing else has it, or refuse it.",
  ],
  "learned-gone": [
    "Learned prefixes that are gone",
    "their routers announce them no longer, and something relies on them",
    "Find out why the site stopped, or forget the prefix in Lanes.",
  ],
  down: [
    "Down",
    "links, attachments and firewalls",
    "Bring it back; What if shows what else would fall with it.",
  ],
  "open-by-default": [
    "Open by default",
    "what nobody speaks about is allowed",
    "Let the segment deny by default, and write policies for what has to pass.",
  ],
};

/** All faults, then all findings by their kind. */
export function inKinds(t: Schemas["Troubles"]): Kind[] {
  const kinds = new Map<string, Kind>();
  const alike = new Map<string, number>();
  const add = (code: string, [title, why, mend]: [string, string, string], trouble: Schemas["Trouble"]) => {
    const said = `${trouble.code}.${fingerprint(trouble.message)}`;
    const before = alike.get(said) ?? 0;
    alike.set(said, before + 1);
    const kind = kinds.get(code) ?? { code, title, why, list: [] };
    kinds.set(code, kind);
    kind.list.push({
      ...trouble,
      fix: trouble.fix || mend,
      message: capital(trouble.message),
      key: before > 0 ? `${said}.${before + 1}` : said,
    });
  };
  for (const f of t.faults)
    add("fault", ["Faults", "the estate cannot be applied until they are mended", ""], f);
  for (const f of t.findings) add(f.code, titles[f.code] ?? [f.code, "", ""], f);
  return [...kinds.values()];
}

/** A short word for a text (FNV-1a, 32 bits). */
function fingerprint(text: string): string {
  let hash = 0x811c9dc5;
  for (let i = 0; i < text.length; i++) hash = Math.imul(hash ^ text.charCodeAt(i), 0x01000193);
  return (hash >>> 0).toString(36);
}

function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}
