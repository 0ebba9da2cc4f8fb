import { expect, test } from "vitest";
import type { Line } from "../../api/targets";
import { runsOf } from "./runs";

const end = (prefix: string) => ({ segment: "", exit: "", set: "", prefixes: [prefix] });
const line = (place: number, from: string, service: string): Line => ({
  place,
  way: "in",
  verb: "allow",
  from: from ? [end(from)] : [],
  to: [],
  services: [service],
  through: [],
  for: [],
});

test("entries that differ in their peers alone are one run", () => {
  const runs = runsOf([
    line(1, "10.0.0.0/24", "tcp/53"),
    line(2, "10.0.1.0/24", "tcp/53"),
    line(3, "10.0.1.0/24", "udp/53"),
  ]);
  expect(runs.map((r) => [r.place, r.last])).toEqual([
    [1, 2],
    [3, 3],
  ]);
  expect(runs[0]?.from.map((e) => e.prefixes)).toEqual([["10.0.0.0/24"], ["10.0.1.0/24"]]);
});

test("a line from everybody takes no other in", () => {
  expect(runsOf([line(1, "", "tcp/53"), line(2, "10.0.0.0/24", "tcp/53")])).toHaveLength(2);
});
