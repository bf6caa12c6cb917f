import { MantineProvider } from "@mantine/core";
import { renderToStaticMarkup } from "react-dom/server";
import { describe, expect, it } from "vitest";
import type { AccessChange, Preview, SignInChange } from "../api";
import { QUIET } from "../testing/helpers";
import { Consequences } from "./Consequences";

function signIn(endpoint: string, more: Partial<SignInChange> = {}): SignInChange {
  return { accounts: ["ines"], account_count: 1, endpoint, may: false, why: "ines is switched off", ...more };
}

function access(endpoint: string | null, more: Partial<AccessChange> = {}): AccessChange {
  return {
    accounts: ["ines"],
    account_count: 1,
    locations: ["/charts"],
    below: 0,
    location_count: 1,
    gained: [],
    lost: ["list"],
    widened: [],
    narrowed: [],
    own: [],
    others: [],
    endpoint,
    ...more,
  };
}

/** What is read, without the markup. */
function read(preview: Partial<Preview>): string {
  const told = { ...QUIET, nothing: false, ...preview };
  const page = renderToStaticMarkup(
    <MantineProvider>
      <Consequences preview={told} />
    </MantineProvider>,
  );
  return page
    .replace(/<style[\s\S]*?<\/style>/g, "")
    .replace(/<[^>]+>/g, " ")
    .replace(/\s+/g, " ");
}

describe("what follows", () => {
  it("says that nothing follows only where that is told", () => {
    expect(read({ nothing: true })).toContain("Nothing follows: nobody gains or loses anything, anywhere");
    expect(read({ sign_in: [signIn("harbour")] })).not.toContain("Nothing follows");
    const everybody = read({ for_everybody: ["clients without TLS are refused at harbour"] });
    expect(everybody).toContain("For everybody clients without TLS are refused at harbour");
    expect(everybody).not.toContain("nobody gains or loses anything");
  });

  it("tells endpoints with the same loss together, and folds the access that goes with it", () => {
    const text = read({
      sign_in: [signIn("harbour"), signIn("lab-sftp")],
      access: [access("harbour"), access("lab-sftp"), access(null, { lost: ["upload"] })],
    });
    expect(text).toContain("can no longer sign in at harbour, lab-sftp");
    expect(text).toContain("ines loses all that there is through harbour, lab-sftp");
    expect(text).toContain("− loses upload");
    const both = { accounts: ["ines", "yuki"], account_count: 2 };
    const two = read({ sign_in: [signIn("harbour", both)], access: [access("harbour", both)] });
    expect(two).toContain("ines, yuki lose all that there is through harbour");
    expect(text).not.toContain("loses list");
  });

  it("does not fold what somebody else loses through the endpoint", () => {
    const text = read({ sign_in: [signIn("harbour")], access: [access("harbour", { accounts: ["yuki"] })] });
    expect(text).toContain("yuki, through harbour");
    expect(text).toContain("− loses list");
  });

  it("counts accounts that are not named", () => {
    const text = read({ sign_in: [signIn("harbour", { account_count: 9000 })] });
    expect(text).toContain("ines and 8999 more");
  });

  it("tells room in sizes, where a location leads, and whose setting takes whose place", () => {
    const text = read({
      room: [
        { accounts: ["ines"], account_count: 1, location: "/home", before: { bytes: 2 ** 31, files: 1 }, after: null },
      ],
      leads: [{ accounts: ["ines"], account_count: 1, location: "/team", before: "homes:/teams/lab", after: null }],
      settings: [
        {
          accounts: ["ines"],
          account_count: 1,
          name: "quota_bytes",
          before: 2 ** 30,
          after: 2 ** 20,
          before_from: ["group:boats"],
          after_from: ["account:ines"],
        },
      ],
    });
    expect(text).toContain("2 GiB and 1 file → no limit");
    expect(text).toContain("/team : homes:/teams/lab → nowhere".replace(" :", ":"));
    expect(text).toContain("1 GiB → 1 MiB");
    expect(text).toContain("of account:ines , in the place of group:boats".replace(" ,", ","));
  });

  it("tells a line without effect with its reasons, notes, and what is left out", () => {
    const text = read({
      without_effect: [{ line: "`allow account:fulmar upload` on survey:/charts", reasons: ["no virtual path leads"] }],
      notes: ["did you mean survey:/soundings?"],
      left_out: ["12 more lines about access are not listed"],
    });
    expect(text).toContain("without effect");
    expect(text).toContain("as no virtual path leads");
    expect(text).toContain("did you mean survey:/soundings?");
    expect(text).toContain("12 more lines about access");
  });

  it("tells what is different only later, with its day", () => {
    const follows = { ...QUIET, nothing: false, sign_in: [signIn("harbour")] };
    const text = read({ later: [{ day: "2031-04-01", follows }] });
    expect(text).toContain("From 2031-04-01 on");
    expect(text.indexOf("can no longer sign in")).toBeGreaterThan(text.indexOf("2031-04-01"));
  });
});
