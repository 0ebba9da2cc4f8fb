import type { Schemas } from "../../api/client";

export type Estate = Schemas["Lanes"];
export type Network = Schemas["LaneNetwork"];
export type Attach = Schemas["LaneAttach"];
export type Gate = Schemas["Gate"];

/** What a link, a hub or an attachment is like. */
export type State = "up" | "down" | "waiting";

/** The states that accounts told last, by kind and name. */
export type Told = Map<string, { state: State; why: string }>;

/** The state of an attachment: as the estate has it, or worse, as its account says. */
export function attachState(told: Told, n: Network, a: Attach | null): { state: State; why: string } {
  if (!a) return { state: "up", why: "" };
  const uplink = told.get(`uplink:${n.name}`);
  if (a.state === "down") return { state: "down", why: uplink?.why || a.why };
  if (uplink && uplink.state !== "up") return uplink;
  return { state: "up", why: "" };
}

/** The segments that hold some of a network. */
export function segmentsOf(n: Network): string[] {
  const all = n.subnets.length > 0 ? n.subnets.map((s) => s.segment) : [n.segment];
  return [...new Set(all)].filter((s) => s !== "");
}
