// @vitest-environment jsdom
import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { afterEach, beforeAll, expect, test } from "vitest";
import { Pick } from "./Pick";

beforeAll(() => {
  // What the list asks of a browser, and the one of the tests has not.
  Element.prototype.hasPointerCapture = () => false;
  Element.prototype.scrollIntoView = () => undefined;
  globalThis.ResizeObserver ??= class {
    observe() {}
    unobserve() {}
    disconnect() {}
  };
});
afterEach(cleanup);

const many = Array.from({ length: 200 }, (_, i) => [`group-${i}`, `group-${i}`] as const);

function Choosing({ first, options }: { first: string; options: readonly (readonly [string, string])[] }) {
  const [value, setValue] = useState(first);
  return (
    <>
      <Pick
        label="within"
        value={value}
        options={options}
        placeholder="choose"
        className=""
        onChange={setValue}
      />
      <output>{value === "" ? "nothing" : value}</output>
    </>
  );
}

test("many choices are drawn only while the list is open", async () => {
  const user = userEvent.setup();
  const { container } = render(<Choosing first="group-7" options={many} />);
  expect(screen.getByRole("combobox", { name: "within" }).textContent).toBe("group-7");
  expect(container.ownerDocument.querySelectorAll("option, [role=option]").length).toBeLessThan(3);
  screen.getByRole("combobox").focus();
  await user.keyboard("{Enter}");
  expect(screen.getAllByRole("option")).toHaveLength(200);
  await user.keyboard("{ArrowDown}{Enter}");
  expect(screen.getByRole("status").textContent).toBe("group-8");
  expect(screen.queryAllByRole("option")).toHaveLength(0);
  expect(screen.getByRole("combobox").textContent).toBe("group-8");
});

test("an empty value has words of its own, and can be chosen again", async () => {
  const user = userEvent.setup();
  render(
    <Choosing
      first="a"
      options={[
        ["", "no pool"],
        ["a", "tidegate"],
      ]}
    />,
  );
  screen.getByRole("combobox").focus();
  await user.keyboard("{Enter}{Home}{Enter}");
  expect(screen.getByRole("status").textContent).toBe("nothing");
  expect(screen.getByRole("combobox").textContent).toBe("no pool");
});

test("without a value it says what is to be chosen", () => {
  render(<Choosing first="" options={[["a", "tidegate"]]} />);
  expect(screen.getByRole("combobox").textContent).toBe("choose");
});
