import { describe, expect, it } from "vitest";
import { changedBy } from "./several";

const policy = {
  name: "p",
  segments: ["office"],
  from: ["crews", "guests"],
  to: "any",
  rules: [
    { services: ["web", "dns"], action: "allow" },
    { services: ["any"], action: "deny" },
  ],
};

describe("a change of several objects", () => {
  it("switches off what can be and is on", () => {
    expect(changedBy("policy", policy, { what: "switch", on: false })).toEqual({ ...policy, enabled: false });
    expect(changedBy("policy", policy, { what: "switch", on: true })).toBeNull();
    expect(changedBy("group", { name: "crews" }, { what: "switch", on: false })).toBeNull();
  });

  it("replaces a group on every side, and names none twice", () => {
    const change = { what: "group", from: "crews", to: "guests" } as const;
    expect(changedBy("policy", policy, change)).toEqual({ ...policy, from: ["guests"] });
    const share = { name: "s", owner: { segment: "turbine", groups: ["crews"] }, guest: { groups: "any" } };
    expect(changedBy("share", share, change)?.["owner"]).toEqual({ segment: "turbine", groups: ["guests"] });
    const group = { name: "g", anyOf: [{ within: "crews" }, { match: "site=fjord" }] };
    expect(changedBy("group", group, change)?.["anyOf"]).toEqual([
      { within: "guests" },
      { match: "site=fjord" },
    ]);
    expect(changedBy("policy", { ...policy, from: ["others"] }, change)).toBeNull();
  });

  it("adds a service where another is, once", () => {
    const change = { what: "service", beside: "web", add: "tcp/8443" } as const;
    const next = changedBy("policy", policy, change);
    expect(next?.["rules"]).toEqual([
      { services: ["web", "dns", "tcp/8443"], action: "allow" },
      { services: ["any"], action: "deny" },
    ]);
    expect(changedBy("policy", next!, change)).toBeNull();
  });
});
