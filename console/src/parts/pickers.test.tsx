// @vitest-environment jsdom
import { fireEvent, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { useState } from "react";
import { beforeEach, expect, test } from "vitest";
import { service, shown } from "../testing/helpers";
import { AboutPicker, LocationPicker, WherePicker } from "./pickers";

const LISTS: Record<string, object> = {
  // One path may lead different people to different folders.
  "/virtual-paths": { virtual_paths: [{ path: "/archive" }, { path: "/archive" }, { path: "/home" }] },
  "/stores": { stores: [{ name: "survey" }, { name: "public" }] },
  "/groups?limit=200000": { groups: [{ name: "boats" }] },
  "/folders?place=survey%3A%2F": { folders: [{ place: "survey:/charts" }, { place: "survey:/inbox" }] },
};
beforeEach(() => {
  service(({ path }) => [200, LISTS[path] ?? {}]);
});

type Picker = typeof WherePicker;

function Field({ picker: Picked }: { picker: Picker }) {
  const [value, put] = useState("");
  return <Picked label="Where" value={value} onChange={put} />;
}

const offered = async () => (await screen.findAllByRole("option")).map((o) => o.textContent);

async function type(picker: Picker, text: string) {
  shown(<Field picker={picker} />);
  await userEvent.click(screen.getByLabelText("Where", { selector: "input" }));
  fireEvent.change(screen.getByLabelText("Where", { selector: "input" }), { target: { value: text } });
}

test("a path that leads to several folders is offered once", async () => {
  await type(LocationPicker as Picker, "/");
  expect(await offered()).toEqual(["/archive", "/home"]);
});

test("where somebody can be is a location, a store, or a folder once a store is named", async () => {
  await type(WherePicker, "/h");
  expect(await offered()).toEqual(["/home"]);
  fireEvent.change(screen.getByLabelText("Where", { selector: "input" }), { target: { value: "sur" } });
  await screen.findByText("survey:/");
  fireEvent.change(screen.getByLabelText("Where", { selector: "input" }), { target: { value: "survey:/" } });
  expect(await screen.findByText("survey:/inbox")).toBeTruthy();
});

test("a report is about a folder, a store or a group", async () => {
  await type(AboutPicker, "s");
  expect(await offered()).toEqual(
    ["survey:/", "public:/", "store:survey", "store:public", "group:boats"].filter((x) => x.includes("s")),
  );
  fireEvent.change(screen.getByLabelText("Where", { selector: "input" }), { target: { value: "survey:/ch" } });
  expect(await screen.findByText("survey:/charts")).toBeTruthy();
});
