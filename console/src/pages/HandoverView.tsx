import { Button, CopyButton, Group } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { answer, GET, named } from "../api";
import { Loaded } from "../parts/states";

/** The sheet that an account's user is handed: where to connect, what is seen, what can be done there, what fits. */
export function HandoverView({ account }: { account: string }) {
  const query = useQuery({
    queryKey: ["handover", account],
    queryFn: () =>
      answer(
        GET("/api/v1/accounts/{name}/handover", { params: { path: { name: account }, query: { format: "text" } } }),
      ),
  });
  return (
    <Loaded query={query}>
      {({ text }) => (
        <section className="sheet" aria-label="Hand-over sheet" style={{ padding: "12px 16px", overflow: "auto" }}>
          <Group justify="flex-end" gap={6}>
            <Button
              variant="default"
              size="compact-xs"
              component="a"
              href={`/api/v1/accounts/${named(account)}/handover/document`}
              target="_blank"
            >
              PDF
            </Button>
            <CopyButton value={text}>
              {({ copied, copy }) => (
                <Button variant="default" size="compact-xs" onClick={copy}>
                  {copied ? "Copied" : "Copy"}
                </Button>
              )}
            </CopyButton>
          </Group>
          <pre className="mono" style={{ margin: 0, whiteSpace: "pre-wrap" }}>
            {text}
          </pre>
        </section>
      )}
    </Loaded>
  );
}
