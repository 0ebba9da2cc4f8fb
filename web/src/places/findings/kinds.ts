import type { Schemas } from "../../api/client";

/** A fault or finding, with a key that an address can hold. */
export type Listed = Schemas["Trouble"] & { key: string };

/** Troubles of one code. */
export interface Kind {
  code: string;
  title: string;
  why: string;
  list: Listed[];
}

/** What the codes are called, and why they matter; in the order of the list. */
const titles: Record<string, [string, string]> = {
  contested: ["Contested", "policies disagree, and none is narrower"],
  "guardrail-not-enforced": ["Guardrails not enforced", "nothing on the way holds them"],
  bypass: ["Past every hub", "flows leave by a gateway of the network's own"],
  unenforced: ["Not enforced", "nothing on the way does what is meant"],
  uninspectable: ["Not inspectable", "no firewall sees the way, so it is denied"],
  "failed-open": ["Failed open", "flows go by firewalls that are down"],
  "no-firewall": ["No firewall in reach", "flows are denied for want of one"],
  asymmetric: ["Asymmetric", "the reply goes past the firewall"],
  "one-way": ["One way", "packets arrive, and replies do not"],
  "meant-but-unrouted": ["Meant, and no way", "rules let it pass, and there is no path"],
  "unreached-rule": ["Rules that no flow reaches", "shadowed, or empty"],
  "empty-side": ["Empty sides", "a policy speaks for nobody"],
  "same-members": ["Same members", "two groups hold the same, and neither stands within the other"],
  "joining-peering": ["Peerings that join segments", ""],
  "learned-waits": ["Learned prefixes that wait", "somebody has to accept or refuse them"],
  down: ["Down", "links, attachments and firewalls"],
  "open-by-default": ["Open by default", "what nobody speaks about is allowed"],
};

/** All faults, then all findings by their kind. */
export function inKinds(t: Schemas["Troubles"]): Kind[] {
  const kinds = new Map<string, Kind>();
  const add = (code: string, title: string, why: string, trouble: Schemas["Trouble"]) => {
    const kind = kinds.get(code) ?? { code, title, why, list: [] };
    kinds.set(code, kind);
    kind.list.push({
      ...trouble,
      message: capital(trouble.message),
      key: `${trouble.code}.${kind.list.length + 1}`,
    });
  };
  for (const f of t.faults) add("fault", "Faults", "the estate cannot be applied until they are mended", f);
  for (const f of t.findings) {
    const [title, why] = titles[f.code] ?? [f.code, ""];
    add(f.code, title, why, f);
  }
  return [...kinds.values()];
}

function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}
