import type { Schemas } from "../api/client";

/** How many terms a set of services shows before it is cut short. */
const termsShown = 6;

/** A set of services in as few words as say it. */
export function serviceWords(w: Schemas["ServiceWords"]): string {
  if (w.name) return w.name;
  if (w.except.length > 0) return `all but ${listed(w.except)}`;
  return listed(w.terms);
}

function listed(terms: string[]): string {
  if (terms.length <= termsShown) return terms.join(", ");
  return `${terms.slice(0, termsShown).join(", ")} and ${terms.length - termsShown} more`;
}

/** A number with thin spaces between groups of three digits, from 10 000 on. */
export function grouped(n: number): string {
  return n < 10_000 ? String(n) : String(n).replace(/\B(?=(\d{3})+$)/g, "\u202f");
}

/** "1 cell", "2 cells". */
export function counted(n: number, one: string, many = `${one}s`): string {
  return `${grouped(n)} ${n === 1 ? one : many}`;
}

/** What a row or column of the board is called. */
export function nodeName(id: string): string {
  const [segment, group] = id.split("/");
  if (group === undefined) return segment ?? id;
  return group === "-" ? `the rest of ${segment}` : `${group} in ${segment}`;
}

/** One rule as a person says it. */
export function ruleWords(rule: Schemas["Rule"]): string {
  const services = rule.services.map(serviceText).join(", ");
  const by = rule.pool ? ` by ${rule.pool}` : "";
  return `${rule.action} ${services === "any" ? "anything" : services}${by}`;
}

/** A service of a rule as one token. */
export function serviceText(s: Schemas["ServiceRef"]): string {
  if (typeof s === "string") return s;
  const ports = s.ports ? `/${s.ports}` : "";
  const from = s.sourcePorts ? ` from ${s.sourcePorts}` : "";
  return `${s.protocol}${ports}${from}`;
}

/** A side or scope of a policy. */
export function sideWords(side: string | string[] | undefined): string {
  if (side === undefined) return "all";
  return typeof side === "string" ? side : side.join(", ");
}

/** What lists of a document hold, one of it. */
const oneOf: Record<string, string> = {
  policies: "policy",
  rulebooks: "rulebook",
  guardrails: "guardrail",
  publications: "publication",
};

const said: Record<Schemas["What"], string> = {
  new: "is new",
  changed: "changed",
  gone: "went",
  kept: "is kept",
  "left out": "is left out",
};

/** What made the estate what it is, and what taking it back would do. */
export function lastStepWords(last: Schemas["LastStep"]): string {
  if (last.why !== "") return `Nothing to undo: ${last.why}`;
  const things = last.changes
    .slice(0, 6)
    .map((c) => `${oneOf[c.kind] ?? c.kind.replace(/s$/, "")} ${c.name} ${said[c.what]}`);
  const rest = last.changes.length - things.length + last.more;
  if (rest > 0) things.push(`${grouped(rest)} more`);
  return `Undo the change by ${last.actor}: ${things.join(", ")}`;
}

/** A text that somebody wrote, with a full stop unless it has an end. */
export const sentence = (text: string): string => (/[.!?]$/.test(text) ? text : `${text}.`);

export function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}

const days = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });
const moments = new Intl.DateTimeFormat("en-GB", {
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
});

/** The day of a moment, as people write it. */
export const day = (at: string): string => days.format(new Date(at));

/** A moment, to the minute. */
export const moment = (at: string): string => moments.format(new Date(at));

/** The day that is some days from today, as fields of days have it. */
export const inDays = (n: number): string => new Date(Date.now() + n * 86_400_000).toISOString().slice(0, 10);

/** What settled an outcome, where no object did. */
export const reasons: Record<Schemas["Verdict"]["reason"], string> = {
  policy: "a policy",
  share: "a share",
  guardrail: "a guardrail",
  rulebook: "a rulebook",
  default: "no rule matches: default",
  "no-share": "no share permits it",
  unenforced: "nothing on the path enforces it",
  uninspectable: "no firewall is on the path",
  "no-firewall": "no healthy firewall",
  "failed-open": "the firewalls failed open",
  "no-path": "no path",
  "no-way-back": "no return path",
  asymmetric: "the return path bypasses the firewall",
  unknown: "nothing has the address there",
};
