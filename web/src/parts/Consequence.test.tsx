// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test, vi } from "vitest";
import type { Schemas } from "../api/client";
import type { WiringEdit } from "../api/queries";
import { show } from "../testing/server";
import { Consequence } from "./Consequence";

const edits: WiringEdit[] = [{ op: "attach", network: "yard", hub: "fen" }];

const effect: Schemas["Effect"] = { revision: 3, cells: [], flows: [], more: 0, expectations: [] };

const consequence = (rest: Partial<Schemas["Consequence"]>): Schemas["Consequence"] => ({
  revision: 3,
  refused: [],
  routes: [],
  more: 0,
  inUse: null,
  objects: [],
  groups: [],
  about: null,
  effect,
  ...rest,
});

const estate = () => ({ revision: 3 });

test("an edit is made as it was tried, based on the revision that is shown", async () => {
  const done = vi.fn();
  const asked = show(<Consequence edit={{ wiring: edits }} verb="Attach" onDone={done} />, {
    "/api/estate": estate,
    "/api/edit/try": () => consequence({}),
    "/api/me": () => ({ name: "mira", called: "Mira", roles: ["engineer"], teams: [] }),
    "/api/drafts": () => ({ id: 7 }),
    "/api/edit": () => consequence({ revision: 4 }),
  });
  expect(await screen.findByText("No flows change.")).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: "Attach" }));
  await waitFor(() => expect(done).toHaveBeenCalledOnce());
  const made = asked.find((a) => a.path === "/api/edit");
  const tried = asked.find((a) => a.path === "/api/edit/try");
  expect(made?.body).toEqual(tried?.body);
  expect(made?.query.get("draft"), "the first edit begins a draft").toBe("7");
});

test("what is refused says why, offers its fixes, and can only be kept in a draft", async () => {
  const done = vi.fn();
  const remedy: Schemas["Remedy"] = { words: "translate yard", edits: [] };
  const take = vi.fn();
  const asked = show(<Consequence edit={{ wiring: edits }} verb="Attach" onDone={done} onRemedy={take} />, {
    "/api/drafts": () => ({ id: 7 }),
    "/api/edit": () => consequence({ revision: 4 }),
    "/api/estate": estate,
    "/api/edit/try": () =>
      consequence({
        effect: null,
        refused: [
          {
            at: "",
            code: "overlap",
            message: "subnets overlap",
            fix: "renumber one",
            refs: [],
            prefixes: ["10.1.0.0/24", "10.1.0.128/25"],
            remedies: [remedy],
          },
        ],
      }),
  });
  const why = await screen.findByRole("alert", { name: "Refused" });
  expect(why.textContent).toContain("Refused: this introduces 1 fault");
  expect(why.textContent).toContain("10.1.0.0/24 ↔ 10.1.0.128/25");
  expect(screen.getByRole("button", { name: "Attach" }).hasAttribute("disabled")).toBe(true);
  await userEvent.click(screen.getByRole("button", { name: "translate yard" }));
  expect(take).toHaveBeenCalledWith(remedy);
  await userEvent.click(screen.getByRole("button", { name: "Keep in the draft anyway" }));
  await waitFor(() => expect(done).toHaveBeenCalledOnce());
  expect(asked.find((a) => a.path === "/api/edit")?.query.get("draft")).toBe("7");
});
