/** The severities of issues and what they are called, those that matter most first. */
export const severities = [
  ["fault", "Faults"],
  ["high", "High"],
  ["medium", "Medium"],
  ["low", "Low"],
] as const;

/** What the codes are called, why they matter, and how they are fixed; in the order of the list. */
const titles: Record<string, [string, string, string]> = {
  contested: [
    "Contested",
    "policies disagree, and none is more specific",
    "Give them the same action, or nest one group in the other, so that the more specific policy applies.",
  ],
  "guardrail-not-enforced": [
    "Guardrails not enforced",
    "nothing on the path enforces them",
    "Route the flows through a hub, or enable enforcement in the network.",
  ],
  bypass: [
    "Bypasses hubs and firewalls",
    "flows leave through the network's own gateway",
    "Point the network's default route to its hub, and remove the gateway.",
  ],
  unenforced: [
    "Not enforced",
    "nothing on the path enforces the intended verdict",
    "Enable enforcement in the network, or route the flows through a hub.",
  ],
  uninspectable: [
    "Not inspectable",
    "no firewall is on the path, so flows are denied",
    "Attach the networks so that the path passes a hub with a firewall, or inspect only flows that pass one.",
  ],
  "failed-open": [
    "Failed open",
    "flows pass uninspected because firewalls are down",
    "Restore a firewall of the pool, or set the pool to fail closed.",
  ],
  "no-firewall": [
    "No reachable firewall",
    "flows are denied because no healthy firewall is reachable",
    "Add a firewall of the pool at a hub on the path, or restore one.",
  ],
  asymmetric: [
    "Asymmetric",
    "replies bypass the firewall",
    "Route the reply through the same hub: remove the peering route, or attach both networks to the same hubs.",
  ],
  "one-way": [
    "No return path",
    "packets arrive, replies do not",
    "Give the destination network a route back: an attachment, or a peering that offers its hub.",
  ],
  "meant-but-unrouted": [
    "Permitted but unrouted",
    "rules permit the flows, but no path exists",
    "Attach the network, accept or announce its prefix, or remove the rule.",
  ],
  "unreached-rule": [
    "Rules that match no flow",
    "shadowed, or empty",
    "Move the rule above the one that shadows it, or remove it.",
  ],
  "empty-side": [
    "Policies with an empty side",
    "source or destination matches no endpoints",
    "Correct the group's labels, or remove the policy.",
  ],
  "same-members": [
    "Duplicate groups",
    "two groups have the same members, and neither is nested in the other",
    "Nest one in the other, or use one group in both policies.",
  ],
  "joining-peering": [
    "Peerings that connect segments",
    "",
    "Remove the peering, and use a share between the segments.",
  ],
  "learned-waits": [
    "Learned prefixes to approve",
    "accept or refuse them",
    "Accept the prefix if nothing else uses it, or refuse it.",
  ],
  "learned-gone": [
    "Withdrawn prefixes still in use",
    "no longer announced, but rules or groups use them",
    "Find out why the site withdrew it, or forget the prefix in Lanes.",
  ],
  down: [
    "Down",
    "links, attachments and firewalls",
    "Restore it; bivium what-if shows what else depends on it.",
  ],
  "ran-out": [
    "Ran out",
    "their last day is over, and they match no flow",
    "Remove them, or give them a later last day.",
  ],
  "runs-out": ["Run out soon", "within the next 14 days", "Give them a later last day, or let them run out."],
  "review-due": [
    "Due for review",
    "somebody must decide whether they are still needed",
    "Give them a later day for review, or remove them.",
  ],
  "open-by-default": [
    "Open by default",
    "flows that no policy matches are allowed",
    "Set the segment to deny by default, and add policies for what has to pass.",
  ],
};

/** What a kind of issues is called, why it matters, and how one is fixed. */
export function kindOf(code: string): { title: string; why: string; fix: string } {
  if (code === "fault")
    return { title: "Faults", why: "the estate cannot be applied until they are fixed", fix: "" };
  const [title, why, fix] = titles[code] ?? [code, "", ""];
  return { title, why, fix };
}
