import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { inKinds } from "./kinds";

const trouble = (code: string, message: string): Schemas["Trouble"] => ({
  code,
  message,
  fix: "",
  path: "",
  refs: [],
  ways: [],
  aside: null,
  services: null,
  witness: null,
});

const keys = (findings: Schemas["Trouble"][], faults: Schemas["Trouble"][] = []) =>
  inKinds({ revision: 1, faults, findings }).flatMap((k) => k.list.map((x) => x.key));

test("what an address names stays what it is when others come and go", () => {
  const down = trouble("down", "link a–b is down");
  const waits = trouble("learned-waits", "10.1.0.0/16 waits");
  const [before] = keys([down]);
  const after = keys(
    [trouble("down", "link a–c is down"), down, waits],
    [trouble("F2", "both claim 10.0.0.0/8")],
  );
  expect(after).toContain(before);
  expect(new Set(after).size).toBe(4);
});

test("of troubles that read alike, each has an address of its own", () => {
  const down = trouble("down", "link a–b is down");
  const all = keys([down, down, down]);
  expect(new Set(all).size).toBe(3);
  expect(keys([down])[0]).toBe(all[0]);
});
