import { useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useLocation, useNavigate } from "react-router";
import { rulesQuery } from "../../api/queries";
import { capital } from "../../parts/wording";
import { keepDraft } from "./drafts";
import { addressOf, freeName, kinds, ruleKinds } from "./kinds";
import type { RuleKind, RuleObject } from "./kinds";

/** What of an address asks about flows: that makes room for what is written. */
const asking = ["from", "to", "on", "row", "col", "at", "road"];

/** What a new object begins as, beside what is given: an empty one, or nothing, where a whole one is. */
type Like = "blank" | "guardrail" | "copy";

/** Begins a new object under a free name, and opens it. */
export function useAdd() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const { search } = useLocation();
  return async (kind: RuleKind, object?: RuleObject, like: Like = "blank") => {
    const rules = await queries.fetchQuery(rulesQuery);
    const taken = kinds[kind].list(rules).map((o) => o.name);
    const name = freeName(object?.name ?? `new-${like === "guardrail" ? like : kind}`, taken);
    const blank = kinds[kind].blank(rules);
    if (like === "guardrail") {
      delete blank.segments;
      blank.tier = "guardrail";
    }
    keepDraft({
      kind,
      name,
      object: { ...(like !== "copy" && blank), ...object, name },
      base: "absent",
      revision: rules.revision,
      along: [],
      wiring: [],
    });
    const rest = new URLSearchParams(search);
    for (const key of asking) rest.delete(key);
    void navigate({ pathname: addressOf(kind, name), search: rest.toString() });
  };
}

/** The menu of what can be added. */
export function AddMenu({ main }: { main?: boolean }) {
  const add = useAdd();
  const item = (key: string, words: string, onSelect: () => void) => (
    <DropdownMenu.Item
      key={key}
      onSelect={onSelect}
      className="cursor-default px-3 py-1 outline-none data-highlighted:bg-wash"
    >
      {words}
    </DropdownMenu.Item>
  );
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        className={`inline-flex items-center gap-1.5 rounded px-2.5 py-0.5 ${main ? "bg-accent font-semibold text-sheet" : "border border-line hover:border-accent"}`}
      >
        <Plus size={14} /> Add
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="start"
          sideOffset={4}
          className="z-40 min-w-44 rounded-md border border-line bg-sheet py-1 shadow-lg"
        >
          {ruleKinds.flatMap((kind) => [
            item(kind, capital(kinds[kind].one), () => void add(kind)),
            ...(kind === "policy"
              ? [item("guardrail", "Guardrail", () => void add("policy", undefined, "guardrail"))]
              : []),
          ])}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
