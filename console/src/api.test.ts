import { afterEach, expect, test, vi } from "vitest";
import { answer, GET, named, onlyAt, POST, Problem } from "./api";

function answering(status: number, body: unknown, sent: Request[] = []) {
  vi.stubGlobal("fetch", async (request: Request) => {
    sent.push(request);
    return new Response(status === 204 ? null : JSON.stringify(body), { status });
  });
  return sent;
}

/** The problem that a call ends in. */
const thrown = (call: Promise<unknown>): Promise<Problem> =>
  call.then(
    () => Promise.reject(new Error("nothing was thrown")),
    (problem) => problem,
  );

afterEach(() => vi.unstubAllGlobals());

test("what is not given is not sent", async () => {
  const sent = answering(200, { total: 1 });
  expect(
    await answer(
      GET("/api/v1/accounts", { params: { query: { matching: "", limit: 5, source: undefined, offset: 0 } } }),
    ),
  ).toEqual({
    total: 1,
  });
  expect(sent[0]?.url).toBe("http://console/api/v1/accounts?limit=5&offset=0");
  expect(sent[0]?.headers.get("X-Drawknife-Console")).toBe("1");
});

test("a problem is thrown with what the service says", async () => {
  answering(404, { status: 404, title: "There is no such thing", detail: "there is no account 'inez'" });
  const error = await thrown(answer(GET("/api/v1/accounts/{name}", { params: { path: { name: "inez" } } })));
  expect(error).toBeInstanceOf(Problem);
  expect([error.status, error.title, error.message]).toEqual([
    404,
    "There is no such thing",
    "there is no account 'inez'",
  ]);
});

test("an answer that is no problem, and no answer at all, are told too", async () => {
  vi.stubGlobal("fetch", async () => new Response("<html>", { status: 502, statusText: "Bad Gateway" }));
  expect((await thrown(answer(GET("/api/v1/overview")))).message).toBe("Bad Gateway");
  vi.stubGlobal("fetch", async () => {
    throw new TypeError("network");
  });
  const error = await thrown(answer(GET("/api/v1/overview")));
  expect([error.status, error.title]).toEqual([0, "No service"]);
});

test("a body is sent as JSON, and no content is nothing", async () => {
  const sent = answering(204, null);
  expect(await answer(POST("/api/v1/sessions", { body: { token: "x" } }))).toBeUndefined();
  expect(sent[0]?.headers.get("Content-Type")).toBe("application/json");
  expect(await sent[0]?.text()).toBe('{"token":"x"}');
});

test("a change that was looked at is made for that revision only", async () => {
  const sent = answering(200, {});
  await POST("/api/v1/changes", { body: { changes: [] }, headers: onlyAt(7) });
  await POST("/api/v1/changes", { body: { changes: [] }, headers: onlyAt() });
  expect(sent.map((r) => r.headers.get("If-Match"))).toEqual(['"7"', null]);
});

test("names are safe in a path", () => {
  expect(named("a/b?c#d")).toBe("a%2Fb%3Fc%23d");
});
