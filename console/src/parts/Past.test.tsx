// @vitest-environment jsdom
import { fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { answer, GET } from "../api";
import { askOf } from "../past";
import { QUIET, type Sent, service, shown } from "../testing/helpers";
import { AddButton } from "./Editor";
import { PastBanner, PastButton } from "./Past";
import { TakeBack } from "./TakeBack";

let sent: Sent[];
let refuse: Record<string, string> = {};
beforeEach(() => {
  refuse = {};
  sent = service(({ path }) => {
    const detail = refuse[path.split("?")[0] ?? ""];
    if (detail)
      return [409, { title: "", detail, places: [{ where: "", message: "accounts ines was touched later" }] }];
    if (path.startsWith("/back/preview")) return [200, { ...QUIET, nothing: false, come: ["yuki"], come_count: 1 }];
    return [200, { revision: 12, changed: true }];
  });
});
afterEach(() => {
  askOf(null);
  vi.unstubAllGlobals();
});

test("a past that is chosen is asked of by every question that can be, and cannot be overlooked", async () => {
  const user = userEvent.setup({ delay: null });
  shown(
    <>
      <PastButton />
      <PastBanner />
      <AddButton kind="account" />
    </>,
  );
  expect(screen.queryByRole("status", { name: "The past" })).toBeNull();
  await user.click(screen.getByRole("button", { name: "Look at the past" }));
  await user.type(await screen.findByLabelText("or revision"), "12");
  await user.click(screen.getByRole("button", { name: "Show it" }));
  const banner = await screen.findByRole("status", { name: "The past" });
  await waitFor(() => expect(banner.textContent).toContain("revision 12"));
  expect(screen.queryByRole("button", { name: "Add account" })).toBeNull();
  await answer(GET("/api/v1/accounts/{name}", { params: { path: { name: "ines" } } }));
  expect(sent.at(-1)?.path).toBe("/accounts/ines?as_of=12");
  await answer(GET("/api/v1/journal", { params: { query: { limit: 5 } } }));
  expect(sent.at(-1)?.path).toBe("/journal?limit=5");
  await user.click(screen.getByRole("button", { name: "Back to today" }));
  expect(screen.getByRole("button", { name: "Add account" })).toBeTruthy();
  await answer(GET("/api/v1/units"));
  expect(sent.at(-1)?.path).toBe("/units");
});

test("a past that was not is told where the sign would be", async () => {
  askOf("2001-01-01");
  refuse["/overview"] = "2001-01-01 00:00 (UTC) is before the first revision";
  shown(<PastBanner />);
  await screen.findByText(/is before the first revision/);
});

test("a revision is taken back only after it was shown, for the revision that was seen", async () => {
  shown(<TakeBack revision={9} />);
  fireEvent.click(screen.getByRole("button", { name: "Take it back…" }));
  await screen.findByText("new: yuki");
  expect(sent.map((x) => x.path)).toEqual(["/back/preview"]);
  fireEvent.click(screen.getByRole("button", { name: "Take it back" }));
  await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  const done = sent.find((x) => x.path === "/back");
  expect([done?.body, done?.revision]).toEqual([{ revision: 9 }, '"7"']);
});

test("what cannot be taken back is told with what is in the way", async () => {
  refuse["/back/preview"] = "revision 9 cannot be taken back: something later touched what it changed";
  shown(<TakeBack revision={9} />);
  fireEvent.click(screen.getByRole("button", { name: "Take it back…" }));
  expect((await screen.findByRole("alert")).textContent).toContain("accounts ines was touched later");
  expect((screen.getByRole("button", { name: "Take it back" }) as HTMLButtonElement).disabled).toBe(true);
});
