import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { applyingQuery } from "../api/plans";
import type { Applying } from "../api/plans";
import { counted } from "../parts/wording";

/** Whether what is applied is also in force at hubs, clouds and premises; leads to what is not. */
export function ForceChip() {
  const applying = useQuery(applyingQuery);
  const a = applying.data;
  if (!a || a.state === "unconnected") return null;
  const calm = a.state === "in-force";
  const busy = a.state === "applying";
  return (
    <Link
      to={a.plan > 0 && !calm ? `/changes/plans/${a.plan}` : "/changes/plans"}
      data-testid="in-force"
      data-state={a.state}
      data-revision={a.revision}
      title={a.why || (calm ? "As Bivium wrote it; Drift under Targets reads what they hold now" : undefined)}
      className={`hover:underline ${calm ? "text-soft" : busy ? "text-accent" : "font-semibold text-denied"}`}
    >
      {forceWords(a)}
    </Link>
  );
}

export function forceWords(a: Applying): string {
  const waits = a.behind.map((b) => b.target).join(", ");
  switch (a.state) {
    case "unconnected":
      return "no target is connected";
    case "in-force":
      return "in force";
    case "applying":
      return a.writes > 0 ? `applying: ${a.done} of ${a.writes} writes` : "planning what to write";
    case "partly":
      return `partly in force; not at ${waits || counted(a.behind.length, "target")}`;
    case "asks":
      return "a plan waits for a person to start it";
    case "paused":
      return "applying is paused";
    case "stopped":
      return "applying was stopped";
    case "unknown":
      return "cannot be applied";
  }
}
