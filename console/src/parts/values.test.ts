import { expect, test } from "vitest";
import { bytesOf, shown, size, sizes } from "../parts/values";

test("sizes have three figures and a binary unit", () => {
  expect([0, 1023, 1536, 40 * 2 ** 30, 5 * 2 ** 40].map(size)).toEqual(["0 B", "1023 B", "1.5 KiB", "40 GiB", "5 TiB"]);
});

test("a size that has become another is told in one unit, with the difference", () => {
  const [GiB, TiB] = [2 ** 30, 2 ** 40];
  expect(sizes(5.68 * TiB, 5.76 * TiB)).toBe("5.68 TiB → 5.76 TiB (+81.9 GiB)");
  expect(sizes(2 * TiB, 512 * GiB)).toBe("2 TiB → 0.5 TiB (−1.5 TiB)");
  expect(sizes(0, 12)).toBe("0 B → 12 B (+12 B)");
  expect(["40 GiB", "1.5 GB", "7", 7, "unlimited", null].map(bytesOf)).toEqual([40 * GiB, 1.5e9, 7, 7, null, null]);
});

test("settings are shown as people say them", () => {
  expect(shown("quota_bytes", 40 * 2 ** 30)).toBe("40 GiB");
  expect(shown("rate_down", 2 * 2 ** 20)).toBe("2 MiB/s");
  expect(shown("idle_timeout", 900)).toBe("900 s");
  expect(shown("sessions", 2)).toBe("2");
  expect(shown("require_tls", true)).toBe("yes");
  expect(shown("methods", [])).toBe("none");
  expect(shown("addresses", [])).toBe("any");
  expect(shown("addresses", [["allow 192.0.2.0/24"], ["deny 192.0.2.7/32"]])).toBe(
    "allow 192.0.2.0/24 and deny 192.0.2.7/32",
  );
  expect(shown("greeting", null)).toBe("none");
  expect(shown("quota_files", "unlimited")).toBe("unlimited");
});
