import type { Schemas } from "../../api/client";

type Policy = Schemas["Policy"];

/** A policy that is being edited, and what it was when the edit began. */
export interface Draft {
  policy: Policy;
  base: Policy;
}

/** Whether somebody else changed the policy since the edit began, and otherwise than here. */
export function conflicts(draft: Draft, now: Policy): boolean {
  return !samePolicy(draft.base, now) && !samePolicy(draft.policy, now);
}

/** Every way in which a draft can change. */
export type Edit =
  | { type: "enable"; enabled: boolean }
  | { type: "side"; side: "from" | "to"; value: Schemas["Side"] }
  | { type: "scope"; scope: "segments" | "fromSegments" | "toSegments"; value: Schemas["Scope"] }
  | { type: "action"; rule: number; action: Schemas["Rule"]["action"]; pool?: string }
  | { type: "pool"; rule: number; pool: string }
  | { type: "services"; rule: number; services: Schemas["ServiceRef"][] }
  | { type: "add" }
  | { type: "remove"; rule: number }
  | { type: "move"; rule: number; by: -1 | 1 };

/** The policy after an edit; what the edit does not touch stays the same object. */
export function edited(p: Policy, e: Edit): Policy {
  switch (e.type) {
    case "enable":
      return { ...p, enabled: e.enabled };
    case "side":
      return { ...p, [e.side]: e.value };
    case "scope":
      return { ...p, [e.scope]: e.value };
    case "action":
      return withRule(p, e.rule, (r) => {
        const rest = { ...r, action: e.action };
        delete rest.pool;
        return e.action === "inspect" && e.pool ? { ...rest, pool: e.pool } : rest;
      });
    case "pool":
      return withRule(p, e.rule, (r) => ({ ...r, pool: e.pool }));
    case "services":
      return withRule(p, e.rule, (r) => ({ ...r, services: e.services }));
    case "add":
      return { ...p, rules: [...p.rules, { services: [], action: "deny" }] };
    case "remove":
      return { ...p, rules: p.rules.filter((_, i) => i !== e.rule) };
    case "move": {
      const to = e.rule + e.by;
      if (to < 0 || to >= p.rules.length) return p; // it is at that end already
      const rules = [...p.rules];
      rules.splice(to, 0, ...rules.splice(e.rule, 1));
      return { ...p, rules };
    }
  }
}

function withRule(p: Policy, at: number, change: (r: Schemas["Rule"]) => Schemas["Rule"]): Policy {
  return { ...p, rules: p.rules.map((r, i) => (i === at ? change(r) : r)) };
}

const key = (name: string) => `bivium.draft.${name}`;

/** The draft of a policy that was left here, if any. */
export function loadDraft(name: string): Draft | null {
  try {
    const draft = JSON.parse(localStorage.getItem(key(name)) ?? "null") as Draft | null;
    return draft?.base ? draft : null;
  } catch {
    return null;
  }
}

/** Keeps a draft through a reload, or forgets it. */
export function keepDraft(name: string, draft: Draft | null): void {
  if (draft) localStorage.setItem(key(name), JSON.stringify(draft));
  else localStorage.removeItem(key(name));
}

/** Whether two policies say the same. */
export function samePolicy(a: Policy, b: Policy): boolean {
  return JSON.stringify(a) === JSON.stringify(b);
}
