import { Plus } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useLocation, useNavigate } from "react-router";
import { capital } from "../../parts/wording";
import { keepDraft } from "./drafts";
import { addressOf, freeName, kinds, ruleKinds } from "./kinds";
import type { RuleKind, RuleObject, Rules } from "./kinds";

/** Begins a new object under a free name, and opens it. */
export function useAdd(rules: Rules | undefined) {
  const navigate = useNavigate();
  const { search } = useLocation();
  return (kind: RuleKind, object?: RuleObject, guardrail = false) => {
    if (!rules) return;
    const taken = kinds[kind].list(rules).map((o) => o.name);
    const name = freeName(object?.name ?? `new-${guardrail ? "guardrail" : kind}`, taken);
    const blank = kinds[kind].blank(rules);
    if (guardrail) {
      delete blank.segments;
      blank.tier = "guardrail";
    }
    keepDraft({
      kind,
      name,
      object: { ...blank, ...object, name },
      base: "absent",
      revision: rules.revision,
      along: [],
      wiring: [],
    });
    void navigate({ pathname: addressOf(kind, name), search });
  };
}

/** The menu of what can be added. */
export function AddMenu({ rules, main }: { rules: Rules; main?: boolean }) {
  const add = useAdd(rules);
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
            item(kind, capital(kinds[kind].one), () => add(kind)),
            ...(kind === "policy"
              ? [item("guardrail", "Guardrail", () => add("policy", undefined, true))]
              : []),
          ])}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
