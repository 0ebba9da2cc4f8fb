import { useEffect, useRef, useSyncExternalStore } from "react";
import { useLocation, useSearchParams } from "react-router";

/** What one looks at: the applied estate, a draft, or the estate as of a revision. */
export type Where =
  { kind: "applied" } | { kind: "draft"; id: number } | { kind: "revision"; number: number };

const applied: Where = { kind: "applied" };

/** The keys under which it stands in the address of a page. */
const draftKey = "draft";
const revisionKey = "as-of";

/** One text for each. */
export const whereKey = (w: Where): string =>
  w.kind === "draft" ? `draft:${w.id}` : w.kind === "revision" ? `revision:${w.number}` : "applied";

function whereOf(params: URLSearchParams): Where | null {
  const number = (key: string) => {
    const n = Number(params.get(key));
    return Number.isInteger(n) && n > 0 ? n : null;
  };
  const draft = number(draftKey);
  if (draft !== null) return { kind: "draft", id: draft };
  const revision = number(revisionKey);
  return revision === null ? null : { kind: "revision", number: revision };
}

/** What the requests about where one looks carry in their address. */
export function whereQuery(): Record<string, string> {
  const w = where();
  if (w.kind === "draft") return { draft: String(w.id) };
  return w.kind === "revision" ? { at: String(w.number) } : {};
}

const stored = "bivium.where";
const listeners = new Set<() => void>();
// Tests of parts without a page have no address.
const begun = typeof window === "undefined" ? [] : [window.location.search, sessionStorage.getItem(stored)];
let current: Where =
  begun.map((text) => whereOf(new URLSearchParams(text ?? ""))).find((w) => w !== null) ?? applied;

/** What one looks at right now. */
export const where = (): Where => current;

/** Looks at something else from now on; the address of the page follows. */
export function lookAt(next: Where) {
  if (whereKey(next) === whereKey(current)) return;
  current = next;
  sessionStorage.setItem(stored, written(new URLSearchParams(), next).toString());
  listeners.forEach((tell) => tell());
}

function written(params: URLSearchParams, w: Where): URLSearchParams {
  const next = new URLSearchParams(params);
  next.delete(draftKey);
  next.delete(revisionKey);
  if (w.kind === "draft") next.set(draftKey, String(w.id));
  if (w.kind === "revision") next.set(revisionKey, String(w.number));
  return next;
}

const subscribe = (tell: () => void) => {
  listeners.add(tell);
  return () => listeners.delete(tell);
};

/** What one looks at. */
export const useWhere = (): Where => useSyncExternalStore(subscribe, where);

/**
 * Keeps what one looks at and the address of the page together: an address that names something
 * else leads there, and one that names nothing is of what one looks at.
 */
export function useWhereInAddress(): Where {
  const w = useWhere();
  const [params, setParams] = useSearchParams();
  const { key: visit } = useLocation(); // two navigations at once may leave the address as it was
  const last = useRef(whereKey(whereOf(params) ?? applied));
  useEffect(() => {
    const named = whereOf(params);
    const key = whereKey(named ?? applied);
    if (key === whereKey(w)) {
      last.current = key;
    } else if (named && key !== last.current) {
      last.current = key;
      lookAt(named);
    } else {
      last.current = whereKey(w);
      setParams((old) => written(old, w), { replace: true });
    }
  }, [params, visit, w, setParams]);
  return w;
}
