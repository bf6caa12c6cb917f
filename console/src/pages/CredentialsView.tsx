import { Button, Group, PasswordInput, Text, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, type Credentials, DELETE, GET, POST, PUT } from "../api";
import { Loaded } from "../parts/states";
import { moment } from "../parts/time";

/** What an account signs in with: whether there is a password, and its public keys. Neither is ever shown again. */
export function CredentialsView({ account }: { account: string }) {
  const path = { name: account };
  const query = useQuery({
    queryKey: ["credentials", account],
    queryFn: () => answer(GET("/api/v1/accounts/{name}/credentials", { params: { path } })),
  });
  return (
    <Loaded query={query}>
      {(held) => (
        <div style={{ display: "grid", gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1.4fr)", gap: 16 }}>
          <Password account={account} since={held.password_set} by={held.password_set_by} />
          <Keys account={account} keys={held.keys} />
        </div>
      )}
    </Loaded>
  );
}

/** Something to do to an account's credentials: afterwards all that is shown is asked anew. */
function useDoing<Given, Found>(work: (given: Given) => Promise<Found>, after?: (found: Found) => void) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: work,
    onSuccess: async (found) => {
      after?.(found);
      await client.invalidateQueries();
    },
  });
}

function Wrong({ error }: { error: Error | null }) {
  return error ? (
    <Text role="alert" className="bad" fz={13} mt={6}>
      {error.message}
    </Text>
  ) : null;
}

function Password({ account, since, by }: { account: string; since: string | null; by: string | null }) {
  const path = { name: account };
  const [typed, setTyped] = useState("");
  const [made, setMade] = useState<string | null>(null);
  const set = useDoing(
    (password: string | null) =>
      answer(PUT("/api/v1/accounts/{name}/password", { params: { path }, body: { password } })),
    (found) => {
      setMade(found.password);
      setTyped("");
    },
  );
  const clear = useDoing(
    () => answer(DELETE("/api/v1/accounts/{name}/password", { params: { path } })),
    () => setMade(null),
  );
  return (
    <section className="sheet" style={{ padding: "12px 16px" }} aria-label="Password">
      <Text fw={650}>Password</Text>
      <Text fz={13} mb={10}>
        {since ? `set ${moment(since)} by ${by}` : "none: it cannot sign in with one"}
      </Text>
      {made !== null && (
        <Text fz={13} mb={10} role="status">
          Copy it now; it is not shown again: <b className="mono">{made}</b>
        </Text>
      )}
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (typed) set.mutate(typed);
        }}
      >
        <Group gap={8} align="flex-end">
          <PasswordInput
            label="A new one"
            autoComplete="new-password"
            size="xs"
            w={210}
            value={typed}
            onChange={(e) => setTyped(e.currentTarget.value)}
          />
          <Button type="submit" size="xs" disabled={!typed} loading={set.isPending}>
            Set
          </Button>
          <Button variant="default" size="xs" onClick={() => set.mutate(null)} loading={set.isPending}>
            Generate one
          </Button>
          {since && (
            <Button variant="subtle" color="red.8" size="xs" onClick={() => clear.mutate(undefined)}>
              Take it away
            </Button>
          )}
        </Group>
      </form>
      <Wrong error={set.error ?? clear.error} />
    </section>
  );
}

function Keys({ account, keys }: { account: string; keys: Credentials["keys"] }) {
  const [line, setLine] = useState("");
  const add = useDoing(
    (key: string) =>
      answer(POST("/api/v1/accounts/{name}/keys", { params: { path: { name: account } }, body: { key } })),
    () => setLine(""),
  );
  const remove = useDoing((fingerprint: string) =>
    answer(DELETE("/api/v1/accounts/{name}/keys/{fingerprint}", { params: { path: { name: account, fingerprint } } })),
  );
  return (
    <section className="sheet" style={{ padding: "12px 16px" }} aria-label="Public keys">
      <Text fw={650}>Public keys</Text>
      {keys.length === 0 && <Text fz={13}>none: it cannot sign in with one</Text>}
      {keys.map((key) => (
        <div key={key.fingerprint} className="beside" style={{ fontSize: 13, marginTop: 6 }}>
          <span>
            {key.kind} {key.comment}
            <div className="mono quiet" style={{ overflowWrap: "anywhere" }}>
              {key.fingerprint}
            </div>
            <div className="quiet">
              added {moment(key.added)} by {key.added_by}
            </div>
          </span>
          <Button
            variant="subtle"
            color="red.8"
            size="compact-xs"
            aria-label={`Remove key ${key.fingerprint}`}
            onClick={() => remove.mutate(key.fingerprint)}
          >
            Remove
          </Button>
        </div>
      ))}
      <Textarea
        label="Add one"
        description="one line, as in id_ed25519.pub"
        size="xs"
        mt={10}
        autosize
        minRows={2}
        styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)" } }}
        value={line}
        onChange={(e) => setLine(e.currentTarget.value)}
      />
      <Button size="xs" mt={8} disabled={!line.trim()} loading={add.isPending} onClick={() => add.mutate(line.trim())}>
        Add key
      </Button>
      <Wrong error={add.error ?? remove.error} />
    </section>
  );
}
