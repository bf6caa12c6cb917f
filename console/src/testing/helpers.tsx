import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import { vi } from "vitest";
import type { Preview } from "../api";

/** A preview from which nothing follows. */
export const QUIET: Preview = {
  revision: 7,
  item_count: 1,
  items: [],
  nothing: true,
  summary: ["nobody gains or loses anything"],
  come: [],
  come_count: 0,
  gone: [],
  gone_count: 0,
  sign_in: [],
  access: [],
  on_disk: null,
  leads: [],
  settings: [],
  room: [],
  for_everybody: [],
  new_findings: [],
  mended: [],
  without_effect: [],
  notes: [],
  left_out: [],
  later: [],
};

/** Something of the console on the page, with all that stands around it. */
export function shown(children: React.ReactNode) {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={client}>
      <MantineProvider env="test">{children}</MantineProvider>
    </QueryClientProvider>,
  );
}

export interface Sent {
  method: string;
  /** Below /api/v1, with the query. */
  path: string;
  body: unknown;
  revision: string | null;
}

/** A service that answers as it is told, by method and path; what it was sent is kept. */
export function service(answers: (sent: Sent) => [status: number, answer: unknown]): Sent[] {
  const all: Sent[] = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    const url = new URL(request.url);
    const text = await request.text();
    const sent = {
      method: request.method,
      path: decodeURIComponent(url.pathname.replace("/api/v1", "")) + url.search,
      body: text ? JSON.parse(text) : null,
      revision: request.headers.get("If-Match"),
    };
    all.push(sent);
    const [status, answer] = answers(sent);
    return new Response(answer === null ? null : JSON.stringify(answer), { status });
  });
  return all;
}
