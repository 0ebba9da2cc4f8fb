import { expect, test } from "vitest";
import type { Rules } from "../kinds";
import { groupOfPlace, placeChoices } from "./placeGroups";

const rules = {
  groups: [
    { name: "crews", match: "role=crew" },
    { name: "labs", networks: ["lab"] },
    { name: "common-services" },
  ],
  networks: [
    { name: "lab", subnets: ["lab/bench"] },
    { name: "common", subnets: ["common/services"] },
    { name: "crews", subnets: [] },
  ],
} as unknown as Rules;

test("a network, a subnet or a prefix stands for a group of just it", () => {
  expect(groupOfPlace(rules, "lab")).toEqual({ group: rules.groups[1], fresh: false });
  expect(groupOfPlace(rules, "common")).toEqual({
    group: { name: "common", networks: ["common"] },
    fresh: true,
  });
  expect(groupOfPlace(rules, "common/services")?.group).toEqual({
    name: "common-services-2",
    subnets: ["common/services"],
  });
  expect(groupOfPlace(rules, "10.1.0.0/24")?.group).toEqual({
    name: "net-10.1.0.0-24",
    prefixes: ["10.1.0.0/24"],
  });
  expect(groupOfPlace(rules, "2001:db8::/64")?.group.name).toBe("net-2001-db8-64");
  expect(groupOfPlace(rules, "crews"), "a group goes before a network of its name").toBeUndefined();
  expect(groupOfPlace(rules, "nowhere")).toBeUndefined();
  expect(placeChoices(rules).map((c) => c.text)).toEqual(["lab", "lab/bench", "common", "common/services"]);
});
