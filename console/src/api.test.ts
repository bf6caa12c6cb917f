import { afterEach, expect, test, vi } from "vitest";
import { ask, get, named, Problem } from "./api";

function answering(status: number, body: unknown, sent: Request[] = []) {
  vi.stubGlobal("fetch", async (path: string, init: RequestInit) => {
    sent.push(new Request(`http://console${path}`, { ...init, credentials: undefined }));
    return new Response(status === 204 ? null : JSON.stringify(body), { status });
  });
  return sent;
}

afterEach(() => vi.unstubAllGlobals());

test("what is not given is not sent", async () => {
  const sent = answering(200, { total: 1 });
  expect(await get<never>("/accounts", { matching: "", limit: 5, endpoint: undefined, offset: 0 })).toEqual({
    total: 1,
  });
  expect(sent[0]?.url).toBe("http://console/api/v1/accounts?limit=5&offset=0");
  expect(sent[0]?.headers.get("X-Drawknife-Console")).toBe("1");
});

test("a problem is thrown with what the service says", async () => {
  answering(404, { status: 404, title: "There is no such thing", detail: "there is no account 'inez'" });
  const error = await get<never>("/accounts/inez").catch((e: Problem) => e);
  expect(error).toBeInstanceOf(Problem);
  expect([error.status, error.title, error.message]).toEqual([
    404,
    "There is no such thing",
    "there is no account 'inez'",
  ]);
});

test("an answer that is no problem, and no answer at all, are told too", async () => {
  vi.stubGlobal("fetch", async () => new Response("<html>", { status: 502, statusText: "Bad Gateway" }));
  expect((await get<never>("/x").catch((e: Problem) => e)).message).toBe("Bad Gateway");
  vi.stubGlobal("fetch", async () => {
    throw new TypeError("network");
  });
  const error = await get<never>("/x").catch((e: Problem) => e);
  expect([error.status, error.title]).toEqual([0, "No service"]);
});

test("a body is sent as JSON, and no content is nothing", async () => {
  const sent = answering(204, null);
  expect(await ask("POST", "/sessions", {}, { token: "x" })).toBeUndefined();
  expect(sent[0]?.headers.get("Content-Type")).toBe("application/json");
  expect(await sent[0]?.text()).toBe('{"token":"x"}');
});

test("names are safe in a path", () => {
  expect(named("a/b?c#d")).toBe("a%2Fb%3Fc%23d");
});
