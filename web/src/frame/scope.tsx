import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import type { Schemas } from "../api/client";
import { scopeQuery } from "../api/queries";
import { ThingLink } from "../parts/ThingLink";
import { counted } from "../parts/wording";
import { useUrlState } from "./urlState";

/** The rule object of which the address asks where it is at work, and that; null for none. */
export function useScope(): { of: Schemas["Thing"]; scope: Schemas["ObjectScope"] } | null {
  const { params } = useUrlState();
  const text = params.get("scope") ?? "";
  const { data } = useQuery({ ...scopeQuery(text), enabled: text !== "" });
  const [kind = "", name = ""] = text.split(":");
  return text !== "" && data ? { of: { kind, name }, scope: data } : null;
}

/** Says of which object the scope is shown, in numbers, and ends it. */
export function ScopeStrip() {
  const { params, change } = useUrlState();
  const text = params.get("scope") ?? "";
  const { error } = useQuery({ ...scopeQuery(text), enabled: text !== "" });
  const shown = useScope();
  if (text === "") return null;
  return (
    <p
      role="status"
      aria-label="Scope"
      className="flex items-center gap-2 border-b border-line bg-wash px-5 py-1 text-[13px]"
    >
      {error && <span className="min-w-0 flex-1 text-denied">{error.message}</span>}
      {shown && (
        <>
          <span className="flex-none text-soft">Scope of</span>
          <ThingLink thing={shown.of} />
          <span className="min-w-0 flex-1 truncate">{scopeWords(shown.of.kind, shown.scope)}</span>
        </>
      )}
      <button
        className="flex flex-none items-center gap-1 text-accent hover:underline"
        onClick={() => change({ scope: null })}
      >
        <X size={13} aria-hidden /> Clear scope
      </button>
    </p>
  );
}

function scopeWords(kind: string, s: Schemas["ObjectScope"]): string {
  const through = s.passes.length > 0 ? `, through ${hubsOf(s.passes)}` : "";
  switch (kind) {
    case "group":
      return `members in ${sideWords(s.from)}`;
    case "pool":
    case "rulebook":
      return s.passes.length > 0 ? `flows pass ${hubsOf(s.passes)}` : "no flow passes it";
  }
  return `from ${sideWords(s.from)} to ${sideWords(s.to)}${through}`;
}

function sideWords(side: Schemas["ScopeSide"]): string {
  const networks = new Set(side.places.map((p) => p.network)).size;
  const parts = networks > 0 ? [counted(networks, "network")] : [];
  if (side.internet) parts.push("the internet");
  return parts.join(" and ") || "no endpoints";
}

const hubsOf = (passes: Schemas["ObjectScope"]["passes"]) =>
  [...new Set(passes.map((p) => `${p.pool} at ${p.hub}`))].join(", ");
