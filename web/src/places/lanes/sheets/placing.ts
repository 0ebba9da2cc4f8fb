import type { WiringEdit } from "../../../api/queries";
import type { Network } from "../estate";

/** Where a network is to be: which segment holds each subnet, as what, and the hubs it is attached to. */
export interface Placing {
  /** By name of the subnet; of a network without any, by "". */
  segments: Record<string, string>;
  /** The prefix that the segment sees a subnet as, where it is another: by name. */
  outside: Record<string, string>;
  at: { hub: string; cost: number; uplink: string }[];
}

/** Where a network is now. */
export function placed(n: Network): Placing {
  const subnets = n.subnets.length > 0 ? n.subnets : [{ name: "", segment: n.segment, outside: "" }];
  return {
    segments: Object.fromEntries(subnets.map((s) => [s.name, s.segment])),
    outside: Object.fromEntries(subnets.map((s) => [s.name, s.outside])),
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
  const segments = Object.fromEntries(
    Object.entries(now.segments).map(([name, s]) => [name, s === off.segment ? segment : s]),
  );
  const there = now.at.some((a) => a.hub === hub);
  const kept = off.hub && off.hub !== hub && !there ? now.at.filter((a) => a.hub !== off.hub) : now.at;
  const moved = now.at.find((a) => a.hub === off.hub);
  const at = there ? kept : [...kept, { hub, cost: moved?.cost ?? 1, uplink: moved?.uplink ?? "" }];
  return { ...now, segments, at };
}

/** The edits that lead from where a network is to where it is to be. */
export function editsOf(n: Network, wanted: Placing): WiringEdit[] {
  const now = placed(n);
  const edits: WiringEdit[] = [];
  const of = { network: n.name };
  for (const [subnet, segment] of Object.entries(wanted.segments)) {
    if (now.segments[subnet] !== segment) edits.push({ op: "live", ...of, subnet, segment });
  }
  for (const a of wanted.at) {
    const was = now.at.filter((o) => o.hub === a.hub);
    if (!was.some((o) => o.cost === a.cost && o.uplink === a.uplink))
      edits.push({
        op: "attach",
        ...of,
        hub: a.hub,
        cost: a.cost,
        ...(a.uplink ? { uplink: a.uplink } : {}),
      });
  }
  // A network may be attached to a hub more than once: detaching takes it off whole.
  for (const hub of new Set(now.at.map((a) => a.hub))) {
    if (!wanted.at.some((o) => o.hub === hub)) edits.push({ op: "detach", ...of, hub });
  }
  for (const s of n.subnets) edits.push(...translations(n, s, now, wanted));
  return edits;
}

/** What every attachment is to translate of a subnet, and is not to any more. */
function translations(
  n: Network,
  s: Network["subnets"][number],
  now: Placing,
  wanted: Placing,
): WiringEdit[] {
  const was = now.outside[s.name] ?? "";
  const is = wanted.outside[s.name] ?? "";
  const segment = wanted.segments[s.name] ?? "";
  const moved = now.segments[s.name] !== segment;
  return wanted.at.flatMap(({ hub }) => {
    const of = { network: n.name, hub, prefix: s.prefix };
    const had = was !== "" && now.at.some((a) => a.hub === hub);
    const out: WiringEdit[] = [];
    if (had && (is === "" || moved))
      out.push({ op: "untranslate", ...of, segment: now.segments[s.name] ?? "" });
    if (is !== "" && segment !== "" && (is !== was || moved || !had))
      out.push({ op: "translate", ...of, segment, outside: is });
    return out;
  });
}
