import { expect, test } from "vitest";
import { unforcedOf } from "./force";

test("what is not in force is told by network, and at hubs", () => {
  const u = unforcedOf({
    revision: 4,
    state: "partly",
    why: "",
    plan: 2,
    writes: 5,
    done: 3,
    hubs: true,
    plans: [],
    behind: [
      {
        target: "velum",
        documents: ["list of subnet a/b"],
        more: 0,
        networks: ["a"],
        why: "it does not answer",
        since: null,
      },
      {
        target: "hubs",
        documents: ["wiring of hub fjord", "wiring of hub delta"],
        more: 0,
        networks: [],
        why: "",
        since: null,
      },
    ],
  });
  expect(u.networks.get("a")).toBe("1 document not in force at velum: it does not answer");
  expect(u.networks.has("b")).toBe(false);
  expect(u.hubs).toBe("2 documents not in force at hubs");
});
