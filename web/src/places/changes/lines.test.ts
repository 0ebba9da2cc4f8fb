import { expect, test } from "vitest";
import { linesOf } from "./lines";

test("lines that both texts have stay, and others come and go in their places", () => {
  const lines = linesOf("a\nb\nc", "a\nx\nc\nd");
  expect(lines.map((l) => l.sign + l.text)).toEqual([" a", "-b", "+x", " c", "+d"]);
  expect(linesOf("", "a").map((l) => l.sign)).toEqual(["+"]);
  expect(linesOf("a", "").map((l) => l.sign)).toEqual(["-"]);
});
