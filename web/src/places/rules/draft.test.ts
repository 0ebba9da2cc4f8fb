import { beforeEach, expect, test, vi } from "vitest";
import type { Schemas } from "../../api/client";
import { draws } from "../../testing/draws";
import { edited, keepDraft, loadDraft, samePolicy } from "./draft";
import type { Edit } from "./draft";

type Policy = Schemas["Policy"];
type Draws = ReturnType<typeof draws>;

const actions = ["allow", "deny", "inspect"] as const;

function drawPolicy(d: Draws): Policy {
  return {
    name: "p",
    segments: d.one([["office"], ["office", "market"], "all"]),
    from: "any",
    to: ["out"],
    rules: Array.from({ length: d.below(5) }, (_, i) => {
      const action = d.one(actions);
      return { services: [`service-${i}`], action, ...(action === "inspect" ? { pool: "watch" } : {}) };
    }),
  };
}

function drawEdit(d: Draws, p: Policy): Edit {
  const rule = d.below(Math.max(1, p.rules.length));
  return d.one<Edit>([
    { type: "enable", enabled: d.chance(0.5) },
    { type: "side", side: d.one(["from", "to"] as const), value: d.one(["any", ["crews"]]) },
    { type: "scope", scope: "segments", value: d.one(["all", ["market"]]) },
    { type: "action", rule, action: d.one(actions), pool: d.one(["watch", "gate"]) },
    { type: "pool", rule, pool: "gate" },
    { type: "services", rule, services: [d.one(["web", "ssh"])] },
    { type: "add" },
    { type: "remove", rule },
    { type: "move", rule, by: d.one([-1, 1] as const) },
  ]);
}

/** What an edit means, done to a copy in the plainest way. */
function plainly(p: Policy, e: Edit): Policy {
  const q = structuredClone(p);
  const rule = "rule" in e ? q.rules[e.rule] : undefined;
  if (e.type === "enable") q.enabled = e.enabled;
  if (e.type === "side") q[e.side] = e.value;
  if (e.type === "scope") q[e.scope] = e.value;
  if (e.type === "add") q.rules.push({ services: [], action: "deny" });
  if (e.type === "remove") q.rules = q.rules.filter((r) => r !== rule);
  if (!rule) return q;
  if (e.type === "services") rule.services = e.services;
  if (e.type === "pool") rule.pool = e.pool;
  if (e.type === "action") {
    rule.action = e.action;
    delete rule.pool;
    if (e.action === "inspect" && e.pool) rule.pool = e.pool;
  }
  const other = e.type === "move" ? q.rules[e.rule + e.by] : undefined;
  if (e.type === "move" && other) {
    q.rules[e.rule] = other;
    q.rules[e.rule + e.by] = rule;
  }
  return q;
}

function frozen<T>(x: T): T {
  if (typeof x === "object" && x !== null) Object.values(Object.freeze(x)).forEach(frozen);
  return x;
}

test("drawn rows of edits do what they say, and leave what they were made on alone", () => {
  for (let seed = 1; seed <= 500; seed++) {
    const d = draws(seed);
    let policy = frozen(drawPolicy(d));
    for (let i = 0; i < 12; i++) {
      const edit = drawEdit(d, policy);
      const next = frozen(edited(policy, edit));
      expect(next, `seed ${seed}: ${JSON.stringify(edit)}`).toEqual(plainly(policy, edit));
      const touched = "rule" in edit && edit.type !== "move" && edit.type !== "remove" ? edit.rule : -1;
      for (const [at, rule] of policy.rules.entries()) {
        if (at === touched || (edit.type === "remove" && at === edit.rule)) continue;
        expect(next.rules, `seed ${seed}: a rule that is not edited is the same object`).toContain(rule);
      }
      policy = next;
    }
  }
});

test("moving a rule there and back leaves it where it was, also at the ends", () => {
  for (let seed = 1; seed <= 200; seed++) {
    const d = draws(seed);
    const policy = drawPolicy(d);
    if (policy.rules.length === 0) continue;
    const rule = d.below(policy.rules.length);
    const by = d.one([-1, 1] as const);
    const moved = edited(policy, { type: "move", rule, by });
    const back =
      moved === policy ? moved : edited(moved, { type: "move", rule: rule + by, by: by === 1 ? -1 : 1 });
    expect(samePolicy(back, policy), `seed ${seed}`).toBe(true);
  }
});

beforeEach(() => {
  const kept = new Map<string, string>();
  vi.stubGlobal("localStorage", {
    getItem: (k: string) => kept.get(k) ?? null,
    setItem: (k: string, v: string) => kept.set(k, v),
    removeItem: (k: string) => kept.delete(k),
  });
});

test("a draft outlives a reload, and what is not one any more does not come back", () => {
  const base = drawPolicy(draws(7));
  const draft = { base, policy: edited(base, { type: "add" }) };
  keepDraft("p", draft);
  expect(loadDraft("p")).toEqual(draft);
  expect(loadDraft("q")).toBeNull();
  keepDraft("p", null);
  expect(loadDraft("p")).toBeNull();
  for (const rubbish of ["{", "7", "null", JSON.stringify(base)]) {
    localStorage.setItem("bivium.draft.p", rubbish);
    expect(loadDraft("p"), rubbish).toBeNull();
  }
});
