import { useSyncExternalStore } from "react";
import type { Operation, WiringEdit } from "../../api/queries";
import type { RuleKind, RuleObject } from "./kinds";

/** An object that is being written, and what it was when that began. */
export interface Draft {
  kind: RuleKind;
  /** Its name in the address; of a new object, the first one that was proposed. */
  name: string;
  object: RuleObject;
  /** As the object was then; "absent" for a new one. */
  base: string;
  /** The revision that was shown then. */
  revision: number;
  /** Objects that are added with it: groups and services made in passing. */
  along: Operation[];
  /** Fixes of a refusal that were taken up. */
  wiring: WiringEdit[];
}

const prefix = "bivium.writing.";
const keyOf = (kind: string, name: string) => `${prefix}${kind}:${name}`;

const listeners = new Set<() => void>();
let all: Draft[] | null = null;

function read(): Draft[] {
  const out: Draft[] = [];
  for (let i = 0; i < localStorage.length; i++) {
    const key = localStorage.key(i);
    if (!key?.startsWith(prefix)) continue;
    try {
      const draft = JSON.parse(localStorage.getItem(key) ?? "null") as Draft | null;
      if (draft?.object) out.push(draft);
    } catch {
      localStorage.removeItem(key);
    }
  }
  return out.sort((a, b) => a.name.localeCompare(b.name));
}

const snapshot = () => (all ??= read());

function subscribe(listener: () => void) {
  const elsewhere = () => {
    all = null;
    listener();
  };
  listeners.add(listener);
  window.addEventListener("storage", elsewhere);
  return () => {
    listeners.delete(listener);
    window.removeEventListener("storage", elsewhere);
  };
}

/** Keeps a draft through a reload. */
export function keepDraft(draft: Draft): void {
  localStorage.setItem(keyOf(draft.kind, draft.name), JSON.stringify(draft));
  changed();
}

export function dropDraft(kind: string, name: string): void {
  localStorage.removeItem(keyOf(kind, name));
  changed();
}

function changed() {
  all = null;
  listeners.forEach((listener) => listener());
}

/** All that is being written in this browser. */
export const useDrafts = (): Draft[] => useSyncExternalStore(subscribe, snapshot);

/** What is being written of one object by now, whatever the page last drew. */
export const draftNow = (kind: string, name: string): Draft | undefined =>
  snapshot().find((d) => d.kind === kind && d.name === name);

/** What is being written of one object, if anything is. */
export const useDraft = (kind: string, name: string): Draft | undefined =>
  useDrafts().find((d) => d.kind === kind && d.name === name);

/** Whether two objects say the same, keys in whatever order. */
export const same = (a: unknown, b: unknown): boolean =>
  JSON.stringify(sorted(a)) === JSON.stringify(sorted(b));

function sorted(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sorted);
  if (typeof value !== "object" || value === null) return value;
  return Object.fromEntries(
    Object.entries(value)
      .filter(([, v]) => v !== undefined)
      .sort(([a], [b]) => (a < b ? -1 : 1))
      .map(([k, v]) => [k, sorted(v)]),
  );
}

/** The operations that a draft stands for: what is added with it first. */
export function operationsOf(draft: Draft): Operation[] {
  const put: Operation = { op: "put", kind: draft.kind, object: draft.object, base: draft.base };
  return [...draft.along, put];
}

/** Moves an item of a list up or down, and leaves it at an end. */
export function moved<T>(items: T[], from: number, to: number): T[] {
  if (to < 0 || to >= items.length || from === to) return items;
  const out = [...items];
  out.splice(to, 0, ...out.splice(from, 1));
  return out;
}
