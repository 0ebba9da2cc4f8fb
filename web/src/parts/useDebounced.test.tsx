// @vitest-environment jsdom
import { act, renderHook } from "@testing-library/react";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { useSettled } from "./useDebounced";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

const wait = (milliseconds: number) => act(() => vi.advanceTimersByTime(milliseconds));

test("one keystroke waits for nothing, and of a hasty row only the first and the last count", () => {
  const seen: string[] = [];
  const { rerender } = renderHook(
    ({ value }) => {
      const settled = useSettled(value, 100);
      if (seen.at(-1) !== settled) seen.push(settled);
    },
    { initialProps: { value: "" } },
  );
  wait(500);
  rerender({ value: "a" });
  wait(1);
  expect(seen).toEqual(["", "a"]);
  for (const value of ["ab", "abc", "abcd"]) {
    wait(30);
    rerender({ value });
  }
  wait(99);
  expect(seen).toEqual(["", "a"]);
  wait(1);
  expect(seen).toEqual(["", "a", "abcd"]);
  wait(101);
  rerender({ value: "abc" });
  wait(1);
  expect(seen).toEqual(["", "a", "abcd", "abc"]);
});
