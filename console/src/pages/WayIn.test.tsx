// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import { service, shown } from "../testing/helpers";
import { WayIn } from "./WayIn";

function page(network: Record<string, string[]>, lockouts: Record<string, unknown>[]) {
  service(({ path }) => [
    200,
    path.startsWith("/items?")
      ? { total: lockouts.length, items: lockouts.map((item) => ({ name: item.of, item })) }
      : { item: network },
  ]);
  shown(<WayIn />);
}
afterEach(() => vi.unstubAllGlobals());

const ACCOUNT = { of: "account", failures: 5, within: "10 minutes", lasts: "30 minutes" };
const ADDRESS = { of: "address", failures: 20, within: "10 minutes", lasts: "1 hour" };

test("networks are told line by line, and what is not stated as such", async () => {
  page({ inside: ["192.0.2.0/24"], openings: [], forwardings: ["198.51.100.5 2121 to 192.0.2.10 2121"] }, []);
  const networks = await screen.findByRole("region", { name: "Networks" });
  await within(networks).findByText("192.0.2.0/24");
  expect(within(networks).getByText("198.51.100.5 2121 to 192.0.2.10 2121")).toBeTruthy();
  expect(within(networks).getAllByText("nothing is stated")).toHaveLength(1);
  expect(within(networks).getByRole("button", { name: "Edit networks" })).toBeTruthy();
});

test("each lockout is a sentence, and can be edited; a third cannot be added", async () => {
  page({}, [ACCOUNT, ADDRESS]);
  const lockout = await screen.findByRole("region", { name: "Lockout" });
  await within(lockout).findByText(/5 failures of one account within 10 minutes lock it for 30 minutes/);
  expect(within(lockout).getByText(/20 failures of one address within 10 minutes lock it for 1 hour/)).toBeTruthy();
  expect(within(lockout).getAllByRole("button", { name: /^Edit lockout/ })).toHaveLength(2);
  expect(within(lockout).queryByRole("button", { name: /Add/ })).toBeNull();
});

test("without lockouts it says that nobody is locked out, and one can be added", async () => {
  page({}, []);
  const lockout = await screen.findByRole("region", { name: "Lockout" });
  await within(lockout).findByText("Failed sign-ins lock nobody out.");
  expect(within(lockout).getByRole("button", { name: "Add lockout" })).toBeTruthy();
});
