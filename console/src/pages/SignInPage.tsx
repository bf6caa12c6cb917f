import { Button, Center, PasswordInput, Stack, Text, TextInput, Title } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { answer, POST } from "../api";

/** Signs in with a token, or by itself with the code of a sign-in link (behind the #). */
export function SignInPage() {
  const [token, setToken] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [failed, setFailed] = useState<string | null>(null);
  const [busy, setBusy] = useState(false);
  const [search] = useSearchParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const spent = useRef(false);

  const signIn = async (shown: { token: string } | { name: string; password: string }) => {
    setBusy(true);
    setFailed(null);
    try {
      await answer(POST("/api/v1/sessions", { body: shown }));
      await client.invalidateQueries();
      const next = search.get("next") ?? "/";
      navigate(next.startsWith("/") && !next.startsWith("//") ? next : "/", { replace: true });
    } catch (error) {
      setFailed((error as Error).message);
      setBusy(false);
    }
  };

  // biome-ignore lint/correctness/useExhaustiveDependencies: a code is spent once, when the page opens
  useEffect(() => {
    const code = window.location.hash.slice(1);
    if (code && !spent.current) {
      spent.current = true;
      window.history.replaceState(null, "", window.location.pathname + window.location.search);
      signIn({ token: code });
    }
  }, []);

  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn(token.trim() ? { token: token.trim() } : { name: name.trim(), password });
  };
  return (
    <Center h="100vh">
      <form onSubmit={submit} className="sheet" style={{ padding: 32, width: 400 }}>
        <Stack gap={14}>
          <img src="/mark.svg" width={38} height={38} alt="" />
          <div>
            <Title order={1} fz={20}>
              Drawknife
            </Title>
            <Text fz="sm" className="quiet">
              Sign in with your name and password, with your token, or by a link that an owner gave you.
            </Text>
          </div>
          <TextInput
            label="Name"
            autoFocus
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
            autoComplete="username"
          />
          <PasswordInput
            label="Password"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
            autoComplete="current-password"
          />
          <PasswordInput
            label="Token"
            description="in the place of a name and a password"
            value={token}
            onChange={(e) => setToken(e.currentTarget.value)}
            error={failed}
            autoComplete="off"
          />
          <Button type="submit" loading={busy} disabled={!token.trim() && !(name.trim() && password)}>
            Sign in
          </Button>
        </Stack>
      </form>
    </Center>
  );
}
