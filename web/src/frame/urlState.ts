import { useCallback, useEffect, useState } from "react";
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

/** How long typing rests before the address takes it, in milliseconds. */
const rest = 120;

/**
 * A text that is typed into a field and lives in the address under a key. The
 * field holds it at once and the address takes it when typing rests: the
 * address changes too late for fast typing, which would lose letters. Where
 * the address changes by itself (Back, a link), the field follows.
 */
export function useTypedUrlState(key: string): [string, (text: string) => void] {
  const { params, change } = useUrlState();
  const there = params.get(key) ?? "";
  const [text, setText] = useState(there);
  const [known, setKnown] = useState(there);
  // What was written since the address last changed: it is on its way there.
  const [sent, setSent] = useState([there]);
  if (there !== known) {
    setKnown(there);
    const at = sent.indexOf(there);
    setSent(at < 0 ? [there] : sent.slice(at));
    if (at < 0) setText(there);
  }
  const last = sent.at(-1);
  useEffect(() => {
    if (text === last) return;
    const timer = setTimeout(() => {
      setSent((old) => [...old, text]);
      change({ [key]: text }, true);
    }, rest);
    return () => clearTimeout(timer);
  }, [text, last, key, change]);
  return [text, setText];
}

/** The question in the address; its fields are empty where nothing is asked. */
export function questionOf(params: URLSearchParams): Question {
  return { from: params.get("from") ?? "", to: params.get("to") ?? "", on: params.get("on") ?? "" };
}

export function isAsked(q: Question): boolean {
  return q.from !== "" && q.to !== "" && q.on !== "";
}
