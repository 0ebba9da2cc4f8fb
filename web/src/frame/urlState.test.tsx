// @vitest-environment jsdom
import { fireEvent, screen, waitFor } from "@testing-library/react";
import { Link, useLocation } from "react-router";
import { expect, test } from "vitest";
import { show } from "../testing/server";
import { useTypedUrlState } from "./urlState";

function Field() {
  const [text, setText] = useTypedUrlState("find");
  const { search } = useLocation();
  return (
    <>
      <input value={text} onChange={(event) => setText(event.target.value)} />
      <p>{search}</p>
      <Link to="/?find=office">office</Link>
      <Link to="/">all</Link>
    </>
  );
}

const field = () => screen.getByRole("textbox") as HTMLInputElement;
const write = (text: string) => fireEvent.change(field(), { target: { value: text } });

test("a field keeps each letter while the address still lags behind, and follows a link", async () => {
  show(<Field />, {}, "/?find=crews");
  expect(field().value).toBe("crews");
  for (const text of ["i", "in", "inspect"]) {
    write(text);
    expect(field().value).toBe(text);
  }
  await waitFor(() => expect(screen.getByText("?find=inspect")).toBeTruthy());
  expect(field().value).toBe("inspect");
  write("");
  await waitFor(() => expect(screen.queryByText(/find/)).toBeNull());
  fireEvent.click(screen.getByText("office", { selector: "a" }));
  await waitFor(() => expect(field().value).toBe("office"));
  write("off");
  fireEvent.click(screen.getByText("all"));
  await waitFor(() => expect(field().value).toBe(""));
  expect(screen.queryByText(/find/)).toBeNull();
});
