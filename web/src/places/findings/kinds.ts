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

/** What a kind of troubles is called, why it matters, and how one is mended. */
export function kindOf(code: string): { title: string; why: string; mend: string } {
  if (code === "fault")
    return { title: "Faults", why: "the estate cannot be applied until they are mended", mend: "" };
  const [title, why, mend] = titles[code] ?? [code, "", ""];
  return { title, why, mend };
}

export function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}
