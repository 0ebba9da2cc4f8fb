// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { show } from "../../testing/server";
import type { Asked } from "../../testing/server";
import { FindingsPlace } from "./FindingsPlace";

window.HTMLElement.prototype.scrollIntoView = () => undefined;

const issue = (code: string, message: string): Schemas["Issue"] => ({
  key: `${code}.${message}`,
  code,
  message,
  fix: "",
  path: "",
  refs: [{ kind: "network", name: "yard" }],
  segments: ["office"],
  remedies: [],
  aside: null,
  services: null,
  witness: null,
});

/** Three kinds: one that is serious, one with more than anybody reads, and one to tidy up. */
function page({ query }: Asked): Schemas["Issues"] {
  const kinds: Schemas["IssueKind"][] = [
    { code: "bypass", severity: "high", count: 1, list: [issue("bypass", "network yard leaves by itself")] },
    {
      code: "meant-but-unrouted",
      severity: "medium",
      count: 44022,
      list: [issue("meant-but-unrouted", "flows from yard to mill are unrouted")],
    },
    {
      code: "unreached-rule",
      severity: "low",
      count: 1,
      list: [issue("unreached-rule", "rule 2 matches no flow")],
    },
  ];
  const severity = query.get("severity");
  return {
    revision: 7,
    counting: false,
    faults: 0,
    findings: 44024,
    severities: [
      { name: "fault", count: 0 },
      { name: "high", count: 1 },
      { name: "medium", count: 44022 },
      { name: "low", count: 1 },
    ],
    segments: [{ name: "office", count: 44024 }],
    owners: [],
    kinds: kinds.filter((k) => !severity || k.severity === severity),
    asked: null,
  };
}

test("what matters most is selected first, and kinds with thousands are folded", async () => {
  show(<FindingsPlace />, { "/api/issues": page });
  const detail = await screen.findByRole("complementary", { name: "Finding" });
  expect(within(detail).getAllByRole("heading")[0]?.textContent).toBe("Network yard leaves by itself");
  const many = screen.getByRole("button", { name: /Permitted but unrouted/ });
  expect(many.getAttribute("aria-expanded")).toBe("false");
  expect(many.textContent).toContain("44,022");
  expect(screen.queryByRole("button", { name: /flows from yard to mill/i })).toBeNull();
  await userEvent.click(many);
  await userEvent.click(screen.getByRole("button", { name: /flows from yard to mill/i }));
  expect(within(detail).getAllByRole("heading")[0]?.textContent).toBe("Flows from yard to mill are unrouted");
});

test("filters are asked of the server, and cleared where nothing matches", async () => {
  const asked: Asked[] = [];
  show(<FindingsPlace />, {
    "/api/issues": (x) => {
      asked.push(x);
      return page(x);
    },
  });
  await userEvent.click(await screen.findByRole("button", { name: /^Low/ }));
  expect(await screen.findByRole("button", { name: /Rule 2 matches no flow/ })).toBeTruthy();
  expect(asked.at(-1)?.query.get("severity")).toBe("low");
  screen.getByRole("combobox", { name: "Segment" }).focus();
  await userEvent.keyboard("{ArrowDown}");
  await userEvent.click(await screen.findByRole("option", { name: /^office/ }));
  await userEvent.click(screen.getByRole("button", { name: /^Faults/ }));
  expect((await screen.findByText(/Nothing matches these filters/)).textContent).toContain("Clear filters");
  expect(asked.at(-1)?.query.get("segment")).toBe("office");
  await userEvent.click(screen.getByRole("button", { name: "Clear filters" }));
  expect(await screen.findByRole("button", { name: /Network yard leaves by itself/ })).toBeTruthy();
  expect(asked.at(-1)?.query.size).toBe(0);
});
