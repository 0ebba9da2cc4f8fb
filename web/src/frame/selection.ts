import { useCallback } from "react";
import { useUrlState } from "./urlState";

/** Where a network was dragged to, and from: its new segment and hub are proposed. */
export interface Drop {
  into: string;
  onto: string;
  fromSegment: string;
  fromHub: string;
}

/** What is picked on Lanes: one thing, or nothing. */
export type Selection =
  | { kind: "nothing" }
  | { kind: "network"; name: string; drop?: Drop }
  | { kind: "routes"; segment: string; hub: string }
  | { kind: "hub"; name: string }
  | { kind: "shares"; segments: string[] }
  | { kind: "new" }
  | { kind: "many" };

/** The keys of an address in which a selection stands. */
const keys = [
  "net",
  "into",
  "onto",
  "from-lane",
  "from-hub",
  "lane",
  "hub",
  "shares",
  "fresh",
  "many",
] as const;

type Keys = Partial<Record<(typeof keys)[number], string | null>>;

/** Reads what an address selects. */
export function selectionOf(params: URLSearchParams): Selection {
  const [net, lane, hub, shares] = ["net", "lane", "hub", "shares"].map((key) => params.get(key));
  if (net) {
    const [into, onto] = [params.get("into"), params.get("onto")];
    if (!into || !onto) return { kind: "network", name: net };
    const from = { fromSegment: params.get("from-lane") ?? "", fromHub: params.get("from-hub") ?? "" };
    return { kind: "network", name: net, drop: { into, onto, ...from } };
  }
  if (shares) return { kind: "shares", segments: shares.split(" ") };
  if (params.get("fresh")) return { kind: "new" };
  if (params.get("many")) return { kind: "many" };
  if (lane && hub) return { kind: "routes", segment: lane, hub };
  if (hub) return { kind: "hub", name: hub };
  return { kind: "nothing" };
}

/** The changes of an address that select one thing, and nothing else. */
export function selecting(selection: Selection): Record<string, string | null> {
  return { ...Object.fromEntries(keys.map((key) => [key, null])), ...own(selection) };
}

function own(s: Selection): Keys {
  switch (s.kind) {
    case "nothing":
      return {};
    case "network":
      return {
        net: s.name,
        into: s.drop?.into ?? null,
        onto: s.drop?.onto ?? null,
        "from-lane": s.drop?.fromSegment ?? null,
        "from-hub": s.drop?.fromHub ?? null,
      };
    case "routes":
      return { lane: s.segment, hub: s.hub };
    case "hub":
      return { hub: s.name };
    case "shares":
      return { shares: s.segments.join(" ") };
    case "new":
      return { fresh: "yes" };
    case "many":
      return { many: "yes" };
  }
}

/** What is selected on Lanes, and how to select something else. */
export function useSelection() {
  const { params, change } = useUrlState();
  const select = useCallback(
    (selection: Selection, replace = false) => change(selecting(selection), replace),
    [change],
  );
  return { selection: selectionOf(params), select };
}
