import { useEffect, useRef, useState } from "react";

/** The value, once it has stayed the same for some milliseconds. */
export function useDebounced<T>(value: T, milliseconds: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), milliseconds);
    return () => clearTimeout(timer);
  }, [value, milliseconds]);
  return settled;
}

/**
 * The value at once, if it had stayed the same for some milliseconds before it changed; else once it
 * has: one keystroke waits for nothing, and a hasty row of them is one.
 */
export function useSettled<T>(value: T, milliseconds: number): T {
  const [settled, setSettled] = useState(value);
  const changed = useRef(-Infinity);
  useEffect(() => {
    const calm = performance.now() - changed.current > milliseconds;
    changed.current = performance.now();
    const timer = setTimeout(() => setSettled(value), calm ? 0 : milliseconds);
    return () => clearTimeout(timer);
  }, [value, milliseconds]);
  return settled;
}
