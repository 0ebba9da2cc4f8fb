// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { show } from "../../testing/server";
import { unreached, WhatRulesDecide } from "./WhatRulesDecide";

test("a rule that no flow reaches says which rules contain its flows", () => {
  expect(unreached([])).toBe("No flow reaches it.");
  expect(unreached([2])).toBe("No flow reaches it: rule 2 contains all of its flows.");
  expect(unreached([1, 2, 4])).toBe("No flow reaches it: rules 1, 2 and 4 contain all of its flows.");
});

test("each rule shows what it decides", async () => {
  const witness = {
    from: "a",
    to: "b",
    on: "tcp/443",
    source: "10.0.0.1",
    destination: "10.0.0.2",
    publication: "",
  };
  const decided = {
    revision: 1,
    rules: [
      {
        rule: 1,
        shadowedBy: [],
        flows: [
          {
            outcome: "inspected",
            counts: true,
            services: { terms: ["tcp/443"], except: [] },
            witness,
            sentence: [],
          },
          {
            outcome: "denied",
            counts: false,
            services: { terms: ["tcp/22"], except: [] },
            witness,
            sentence: [],
          },
        ],
      },
      { rule: 2, shadowedBy: [1], flows: [] },
    ],
  } as unknown as Schemas["Decided"];
  const asked = show(<WhatRulesDecide kind="policy" name="p" />, { "/api/rules/decided": () => decided });
  await screen.findByRole("button", { name: "tcp/443: inspected; show path of 10.0.0.1 → 10.0.0.2" });
  screen.getByRole("button", { name: /^tcp\/22: denied, overridden/ });
  screen.getByText("No flow reaches it: rule 1 contains all of its flows.");
  expect(asked.map((x) => x.query.get("of"))).toEqual(["policy:p"]);
});
