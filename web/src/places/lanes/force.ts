import { useQuery } from "@tanstack/react-query";
import { applyingQuery } from "../../api/plans";
import type { Applying } from "../../api/plans";
import { useWhere } from "../../frame/where";
import { counted, moment } from "../../parts/wording";

/** What is applied and not in force yet: why, by network; and at hubs. */
export interface Unforced {
  behind: Applying["behind"];
  networks: Map<string, string>;
  hubs: string;
}

const none: Unforced = { behind: [], networks: new Map(), hubs: "" };

export function useUnforced(): Unforced {
  const applying = useQuery(applyingQuery);
  const w = useWhere();
  return w.kind === "applied" && applying.data ? unforcedOf(applying.data) : none;
}

/** The same, of what a server says. */
export function unforcedOf(a: Applying): Unforced {
  const networks = new Map<string, string>();
  let hubs = "";
  for (const b of a.behind) {
    const words = waits(b);
    for (const n of b.networks) networks.set(n, words);
    if (b.target === "hubs") hubs = words;
  }
  return { behind: a.behind, networks, hubs };
}

/** Why a target does not hold what it should, and since when. */
export function waits(b: Applying["behind"][number]): string {
  const since = b.since ? ` since ${moment(b.since)}` : "";
  return `${counted(b.documents.length + b.more, "document")} not in force at ${b.target}${since}${b.why ? `: ${b.why}` : ""}`;
}
