import type { WiringEdit } from "../../api/queries";
import type { Network } from "./layout";

/** Where a network is to be: which segment holds each subnet, and the hubs it is attached to. */
export interface Placing {
  /** By name of the subnet; of a network without any, by "". */
  segments: Record<string, string>;
  at: { hub: string; cost: number; uplink: string }[];
}

/** Where a network is now. */
export function placed(n: Network): Placing {
  const subnets = n.subnets.length > 0 ? n.subnets : [{ name: "", segment: n.segment }];
  return {
    segments: Object.fromEntries(subnets.map((s) => [s.name, s.segment])),
    at: n.at.map((a) => ({ hub: a.hub, cost: a.cost, uplink: a.uplink })),
  };
}

/**
 * Where a network would be that is dropped on a lane and a column: what of it was in the lane that it
 * was taken from ("" for the tray) goes to the new one, and the attachment to the hub that it was taken
 * from moves.
 */
export function dropped(
  n: Network,
  segment: string,
  hub: string,
  off: { segment: string; hub: string },
): Placing {
  const now = placed(n);
  const from = off.hub;
  const segments = Object.fromEntries(
    Object.entries(now.segments).map(([name, s]) => [name, s === off.segment ? segment : s]),
  );
  const there = now.at.some((a) => a.hub === hub);
  const kept = from && from !== hub && !there ? now.at.filter((a) => a.hub !== from) : now.at;
  const moved = now.at.find((a) => a.hub === from);
  const at = there ? kept : [...kept, { hub, cost: moved?.cost ?? 1, uplink: moved?.uplink ?? "" }];
  return { segments, at };
}

/** The edits that lead from where a network is to where it is to be. */
export function editsOf(n: Network, wanted: Placing): WiringEdit[] {
  const now = placed(n);
  const edits: WiringEdit[] = [];
  for (const [subnet, segment] of Object.entries(wanted.segments)) {
    if (now.segments[subnet] !== segment) edits.push({ op: "live", network: n.name, subnet, segment });
  }
  for (const a of wanted.at) {
    const was = now.at.find((o) => o.hub === a.hub);
    if (!was || was.cost !== a.cost || was.uplink !== a.uplink)
      edits.push({
        op: "attach",
        network: n.name,
        hub: a.hub,
        cost: a.cost,
        ...(a.uplink ? { uplink: a.uplink } : {}),
      });
  }
  for (const a of now.at) {
    if (!wanted.at.some((o) => o.hub === a.hub)) edits.push({ op: "detach", network: n.name, hub: a.hub });
  }
  return edits;
}
