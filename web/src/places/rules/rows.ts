import { kinds, refersTo, ruleKinds, says } from "./kinds";
import type { RuleKind, RuleObject, Rules } from "./kinds";

/** An object as the list has it. */
export interface Row {
  kind: RuleKind;
  name: string;
  words: string;
  off: boolean;
  problems: number;
  writing: "" | "new" | "changed";
}

/** One with what it refers to, and itself. */
export type Known = Row & { refers: Set<string>; object: RuleObject };

export function rowsOf(rules: Rules): Known[] {
  return ruleKinds.flatMap((kind) =>
    kinds[kind].list(rules).map((o: RuleObject): Known => {
      const r = refersTo(o);
      return {
        kind,
        object: o,
        name: o.name,
        words: says(kind, o),
        off: o.enabled === false,
        problems: rules.problems[`${kind} ${o.name}`] ?? 0,
        writing: "",
        refers: new Set([
          ...r.segments.map((n) => `segment ${n}`),
          ...r.groups.map((n) => `group ${n}`),
          ...r.services.map((n) => `service ${n}`),
          ...r.pools.map((n) => `pool ${n}`),
          ...(o.tier === "guardrail" ? ["guardrail"] : []),
        ]),
      };
    }),
  );
}

/** What the list is narrowed by. */
export interface Narrowing {
  find: string;
  only: string;
  about: string;
  faulty: boolean;
}

/** What the address narrows the list by. */
export function narrowingOf(params: URLSearchParams): Narrowing {
  const get = (key: string) => params.get(key) ?? "";
  return { find: get("find"), only: get("kind"), about: get("about"), faulty: get("faulty") !== "" };
}

export function fits(r: Known, { find, only, about, faulty }: Narrowing): boolean {
  const text = find.trim().toLowerCase();
  return (
    (text === "" || `${r.name} ${r.words}`.toLowerCase().includes(text)) &&
    (only === "" || (only === "guardrail" ? r.refers.has("guardrail") : r.kind === only)) &&
    (about === "" || r.refers.has(about)) &&
    (!faulty || r.problems > 0)
  );
}
