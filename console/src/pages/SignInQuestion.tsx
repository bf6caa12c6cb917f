import { Button, Group, Select, Text, TextInput } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Answer, answer, GET, type MendQuestion, POST, Problem, type Reach } from "../api";
import { Mending } from "../parts/Mending";

const YES_NO = [
  { value: "", label: "not said" },
  { value: "yes", label: "yes" },
  { value: "no", label: "no" },
];

interface Told {
  asked: MendQuestion;
  answer: Answer;
  reach: Reach | null;
}

/** May somebody sign in here, from there, in this way? A small form, and all that is in the way. */
export function SignInQuestion({ endpoints, chosen }: { endpoints: string[]; chosen: string | null }) {
  const [account, setAccount] = useState<string | null>(null);
  const [endpoint, setEndpoint] = useState<string | null>(chosen ?? endpoints[0] ?? null);
  const [from, setFrom] = useState("");
  const [tls, setTls] = useState("");
  const [method, setMethod] = useState("");
  const accounts = useQuery({
    queryKey: ["accounts"],
    queryFn: () => answer(GET("/api/v1/accounts", { params: { query: { limit: 200_000 } } })),
  });
  const question = useMutation({
    mutationFn: async (): Promise<Told> => {
      const body = {
        account: account ?? "",
        action: "sign-in",
        endpoint,
        ...(from ? { from } : {}),
        ...(tls ? { tls: tls === "yes" } : {}),
        ...(method ? { method } : {}),
      };
      const told = await answer(POST("/api/v1/decisions", { body: { ...body, explain: true } }));
      const reach = from
        ? await answer(
            GET("/api/v1/endpoints/{name}/reach", { params: { path: { name: endpoint ?? "" }, query: { from } } }),
          )
        : null;
      return { asked: body, answer: told, reach };
    },
  });
  const told = question.data;
  return (
    <section className="sheet" style={{ padding: "12px 16px" }} aria-label="May somebody sign in?">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (account && endpoint) question.mutate();
        }}
      >
        <Group gap={10} align="flex-end">
          <Select
            label="May"
            placeholder="account"
            searchable
            limit={50}
            size="xs"
            w={170}
            data={accounts.data?.accounts.map((a) => a.name) ?? []}
            value={account}
            onChange={setAccount}
          />
          <Select label="sign in at" size="xs" w={140} data={endpoints} value={endpoint} onChange={setEndpoint} />
          <TextInput
            label="from"
            placeholder="any address"
            size="xs"
            w={140}
            value={from}
            onChange={(e) => setFrom(e.currentTarget.value.trim())}
          />
          <Select label="with TLS" size="xs" w={100} data={YES_NO} value={tls} onChange={(v) => setTls(v ?? "")} />
          <Select
            label="by"
            size="xs"
            w={120}
            data={[{ value: "", label: "not said" }, "password", "key", "directory"]}
            value={method}
            onChange={(v) => setMethod(v ?? "")}
          />
          <Button type="submit" size="xs" disabled={!account || !endpoint} loading={question.isPending}>
            Ask
          </Button>
        </Group>
      </form>
      {question.error && (
        <div role="alert" className="bad" style={{ fontSize: 13, marginTop: 8 }}>
          {question.error instanceof Problem ? question.error.message : "That did not work."}
        </div>
      )}
      {told && (
        <div style={{ fontSize: 13, marginTop: 10 }} role="status">
          {told.answer.allowed ? (
            <b className="good">● {told.answer.text}</b>
          ) : (
            told.answer.explanation?.obstacles.map((o) => (
              <div key={o.gate + o.text}>
                <b className="bad">✕ {o.gate}</b> {o.text}
              </div>
            ))
          )}
          {!told.answer.allowed && <Mending question={told.asked} stop={false} />}
          {told.answer.told_to_client && (
            <div className="quiet">The client is told only: “{told.answer.told_to_client}”</div>
          )}
          {told.reach?.missing.map((line) => (
            <div key={line}>
              <span className="state-own">▲ reach</span> {line}
            </div>
          ))}
          {told.answer.explanation?.gates
            .flatMap((g) => g.notes)
            .filter((note, i, all) => all.indexOf(note) === i && note.startsWith("not given"))
            .map((note) => (
              <div key={note} className="quiet">
                {note}
              </div>
            ))}
        </div>
      )}
    </section>
  );
}

/** What an endpoint's certificate says, and what is wrong with it. */
export function CertificateLine({ endpoint }: { endpoint: string }) {
  const query = useQuery({
    queryKey: ["certificate", endpoint],
    queryFn: () => answer(GET("/api/v1/endpoints/{name}/certificate", { params: { path: { name: endpoint } } })),
    retry: false,
  });
  if (!query.data) return null;
  const wrong = query.data.problem ? [query.data.problem] : query.data.warnings;
  return (
    <Text fz={12} mt={2} component="div" style={{ whiteSpace: "normal" }}>
      <span className={wrong.length ? "state-own" : "quiet"}>
        {wrong.length ? "▲" : "✓"} certificate
        {wrong.length ? `: ${wrong.join("; ")}` : ` until ${query.data.valid_until?.slice(0, 10)}`}
      </span>
    </Text>
  );
}
