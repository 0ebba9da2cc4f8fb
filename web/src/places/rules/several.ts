import { kinds } from "./kinds";
import type { RuleKind, RuleObject } from "./kinds";

/** A change that is made to several objects alike. */
export type Change =
  | { what: "switch"; on: boolean }
  | { what: "group"; from: string; to: string }
  | { what: "service"; beside: string; add: string };

/** An object with a change made; null where that changes nothing of it. */
export function changedBy(kind: RuleKind, object: RuleObject, change: Change): RuleObject | null {
  switch (change.what) {
    case "switch":
      if (!kinds[kind].switches || (object.enabled ?? true) === change.on) return null;
      return { ...object, enabled: change.on };
    case "group":
      if (change.from === "" || change.to === "" || change.from === change.to) return null;
      return inside(object, isGroups, (names) => replaced(names, change.from, change.to));
    case "service":
      if (change.beside === "" || change.add === "") return null;
      return inside(
        object,
        (key) => key === "services",
        (names) =>
          names.includes(change.beside) && !names.includes(change.add) ? [...names, change.add] : names,
      );
  }
}

const isGroups = (key: string) => key === "from" || key === "to" || key === "groups";

function replaced(names: string[], from: string, to: string): string[] {
  if (!names.includes(from)) return names;
  return [...new Set(names.map((n) => (n === from ? to : n)))];
}

/** Changes each list of names under some keys, however deep; null where none changes. */
function inside(
  object: RuleObject,
  is: (key: string) => boolean,
  change: (names: string[]) => string[],
): RuleObject | null {
  let changes = false;
  const walk = (value: unknown): unknown => {
    if (Array.isArray(value)) return value.map(walk);
    if (typeof value !== "object" || value === null) return value;
    return Object.fromEntries(
      Object.entries(value).map(([key, v]) => {
        if (is(key) && Array.isArray(v) && v.every((n) => typeof n === "string")) {
          const next = change(v as string[]);
          changes ||= next !== v;
          return [key, next];
        }
        if (key === "within" && is("groups") && typeof v === "string") {
          const [next] = change([v]);
          changes ||= next !== v;
          return [key, next];
        }
        return [key, walk(v)];
      }),
    );
  };
  const out = walk(object) as RuleObject;
  return changes ? out : null;
}
