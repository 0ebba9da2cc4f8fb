import { useCallback } from "react";
import { useSearchParams } from "react-router";
import type { Question } from "../api/queries";

/**
 * What the page is about lives in its address: the question, the opened rows,
 * the selected cell. These hooks read and write it.
 */
export function useUrlState() {
  const [params, setParams] = useSearchParams();
  const change = useCallback(
    (changes: Record<string, string | null>, replace = false) =>
      setParams(
        (old) => {
          const next = new URLSearchParams(old);
          for (const [key, value] of Object.entries(changes)) {
            if (value === null || value === "") next.delete(key);
            else next.set(key, value);
          }
          return next;
        },
        { replace },
      ),
    [setParams],
  );
  return { params, change };
}

/** The question in the address; its fields are empty where nothing is asked. */
export function questionOf(params: URLSearchParams): Question {
  return { from: params.get("from") ?? "", to: params.get("to") ?? "", on: params.get("on") ?? "" };
}

export function isAsked(q: Question): boolean {
  return q.from !== "" && q.to !== "" && q.on !== "";
}
