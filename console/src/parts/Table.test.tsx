// @vitest-environment jsdom
import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter, useLocation } from "react-router";
import { expect, test } from "vitest";
import { shown } from "../testing/helpers";
import { type Column, Table } from "./Table";

interface Boat {
  name: string;
  length: number | null;
}
const BOATS: Boat[] = [
  { name: "fulmar", length: 12 },
  { name: "kittiwake", length: 9 },
  { name: "razorbill", length: null },
];
const COLUMNS: Column<Boat>[] = [
  { head: "boat", track: "1fr", by: (b) => b.name, show: (b) => b.name },
  { head: "length", track: "80px", by: (b) => b.length, show: (b) => b.length },
  { head: "", track: "60px", show: () => <button type="button">Edit</button> },
];

function Where() {
  return <output>{useLocation().pathname}</output>;
}

function table(rows = BOATS, more: { matching?: string; to?: (b: Boat) => string } = {}) {
  shown(
    <MemoryRouter>
      <Table
        label="Boats"
        rows={rows}
        columns={COLUMNS}
        keyOf={(b) => b.name}
        one="boat"
        none="There are no boats."
        {...more}
      />
      <Where />
    </MemoryRouter>,
  );
}
const names = () => screen.getAllByRole("row").map((row) => row.firstChild?.textContent);

test("a click on a head sorts by it, another turns it round; what has no value comes last", async () => {
  const user = userEvent.setup({ delay: null });
  table();
  expect(names()).toEqual(["fulmar", "kittiwake", "razorbill"]);
  const head = screen.getByRole("button", { name: "Sort by length" });
  await user.click(head);
  expect(names()).toEqual(["kittiwake", "fulmar", "razorbill"]);
  await user.click(head);
  expect(names()).toEqual(["fulmar", "kittiwake", "razorbill"]);
  await user.click(head);
  expect(head.getAttribute("aria-pressed")).toBe("false");
  // The column of buttons has no head and is in no order.
  expect(screen.queryAllByRole("button", { name: /^Sort by/ })).toHaveLength(2);
});

test("what matches in any column is shown; what matches nothing is said, and so is an empty list", async () => {
  table(BOATS, { matching: " KITTI " });
  expect(names()).toEqual(["kittiwake"]);
});

test("nothing matches, and nothing is there", () => {
  table(BOATS, { matching: "gannet" });
  expect(screen.getByText("No boat matches “gannet”.")).toBeTruthy();
  table([]);
  expect(screen.getByText("There are no boats.")).toBeTruthy();
});

test("Enter opens the chosen row from the page or its search field, and not from a form or a button beside it", async () => {
  const user = userEvent.setup({ delay: null });
  shown(
    <MemoryRouter>
      <input aria-label="search" data-search />
      <input aria-label="name" />
      <button type="button">Other</button>
      <Table
        label="Boats"
        rows={BOATS}
        columns={COLUMNS}
        keyOf={(b) => b.name}
        one="boat"
        none=""
        to={(b) => `/${b.name}`}
      />
      <Where />
    </MemoryRouter>,
  );
  for (const elsewhere of [screen.getByLabelText("name"), screen.getByRole("button", { name: "Other" })]) {
    elsewhere.focus();
    await user.keyboard("{Enter}");
    expect(screen.getByRole("status").textContent).toBe("/");
  }
  screen.getByLabelText("search").focus();
  await user.keyboard("{Enter}");
  expect(screen.getByRole("status").textContent).toBe("/fulmar");
});

test("rows that lead somewhere are moved through with the arrow keys and opened with Enter", async () => {
  table(BOATS, { to: (b) => `/boats/${b.name}` });
  const grid = screen.getByRole("grid", { name: "Boats" });
  grid.focus();
  fireEvent.keyDown(grid, { key: "ArrowDown" });
  fireEvent.keyDown(grid, { key: "PageDown" });
  fireEvent.keyDown(grid, { key: "ArrowUp" });
  expect(screen.getAllByRole("row")[1]?.dataset.chosen).toBe("true");
  fireEvent.keyDown(grid, { key: "Enter" });
  await waitFor(() => expect(screen.getByRole("status").textContent).toBe("/boats/kittiwake"));
  fireEvent.click(screen.getByRole("link", { name: "fulmar" }));
  expect(screen.getByRole("status").textContent).toBe("/boats/fulmar");
});

test("a column is drawn wider from the width that it has", () => {
  table();
  const head = screen.getByRole("button", { name: "Sort by boat" }).parentElement as HTMLElement;
  Object.defineProperty(head, "offsetWidth", { value: 200 });
  fireEvent.mouseDown(head.querySelector(".edge") as Element, { clientX: 200 });
  fireEvent.mouseMove(document, { clientX: 260 });
  fireEvent.mouseUp(document, { clientX: 260 });
  expect((head.parentElement as HTMLElement).style.gridTemplateColumns).toMatch(/^260px /);
});
