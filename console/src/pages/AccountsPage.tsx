import { Group, Kbd, Text, TextInput } from "@mantine/core";
import { useDebouncedValue, useHotkeys } from "@mantine/hooks";
import { IconSearch } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { type Account, answer, GET, named } from "../api";
import { AddButton } from "../parts/Editor";
import { AccountState } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";

const COLUMNS = "minmax(150px, 1.2fr) minmax(160px, 1.6fr) 90px minmax(120px, 1fr) 160px 80px";

export function AccountsPage() {
  const [search, setSearch] = useSearchParams();
  // What is typed stands here at once; the address follows when the typing pauses.
  const [matching, setMatching] = useState(search.get("matching") ?? "");
  const [settled] = useDebouncedValue(matching, 200);
  useEffect(() => {
    setSearch(settled ? { matching: settled } : {}, { replace: true });
  }, [settled, setSearch]);
  const query = useQuery({
    queryKey: ["accounts"],
    queryFn: () => answer(GET("/api/v1/accounts", { params: { query: { limit: 200_000 } } })),
  });
  const field = useRef<HTMLInputElement>(null);
  useHotkeys([["/", () => field.current?.focus()]]);
  return (
    <Page
      title="Accounts"
      beside={
        <Group gap={10}>
          <AddButton kind="account" />
          <TextInput
            ref={field}
            aria-label="Filter accounts"
            placeholder="Name, mail or unit"
            w={320}
            autoFocus
            leftSection={<IconSearch size={15} />}
            rightSection={<Kbd size="xs">/</Kbd>}
            value={matching}
            onChange={(e) => setMatching(e.currentTarget.value)}
          />
        </Group>
      }
    >
      <Loaded query={query}>{(data) => <AccountRows accounts={data.accounts} matching={matching} />}</Loaded>
    </Page>
  );
}

function AccountRows({ accounts, matching }: { accounts: Account[]; matching: string }) {
  const navigate = useNavigate();
  const wanted = useDeferredValue(matching.trim().toLowerCase());
  const texts = useMemo(
    () => accounts.map((a) => `${a.name}\n${a.display ?? ""}\n${a.mail ?? ""}\n${a.unit ?? ""}`.toLowerCase()),
    [accounts],
  );
  const shown = useMemo(
    () => (wanted ? accounts.filter((_, i) => texts[i]?.includes(wanted)) : accounts),
    [accounts, texts, wanted],
  );
  const box = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another filter begins at the top again
  useEffect(() => setAt(0), [wanted]);
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => box.current,
    estimateSize: () => 34,
    overscan: 12,
  });
  const open = (account?: Account) => account && navigate(`/accounts/${named(account.name)}`);
  const keys = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[event.key];
    if (step) {
      event.preventDefault();
      const next = Math.max(0, Math.min(shown.length - 1, at + step));
      setAt(next);
      rows.scrollToIndex(next);
    } else if (event.key === "Enter") open(shown[at]);
  };
  useHotkeys(
    [
      ["ArrowDown", () => box.current?.focus()],
      ["Enter", () => open(shown[at])],
    ],
    [],
  );
  return (
    <>
      <div className="sheet" style={{ flex: 1, minHeight: 0, display: "flex", flexDirection: "column" }}>
        <div className="row head" style={{ gridTemplateColumns: COLUMNS, height: 32 }}>
          <span>account</span>
          <span>name</span>
          <span>kind</span>
          <span>unit</span>
          <span>state</span>
          <span>from</span>
        </div>
        {shown.length === 0 ? (
          <Empty>
            {accounts.length
              ? `No account matches “${matching}”.`
              : "There are no accounts yet: load a model with `drawknife load FILE`."}
          </Empty>
        ) : (
          <div
            ref={box}
            className="rows"
            style={{ flex: 1 }}
            tabIndex={0}
            onKeyDown={keys}
            role="grid"
            aria-label="Accounts"
          >
            <div style={{ height: rows.getTotalSize(), position: "relative" }}>
              {rows.getVirtualItems().map((item) => {
                const account = shown[item.index];
                if (!account) return null;
                return (
                  <div
                    key={account.name}
                    className="row"
                    role="row"
                    data-chosen={item.index === at}
                    tabIndex={-1}
                    style={{
                      gridTemplateColumns: COLUMNS,
                      height: 34,
                      position: "absolute",
                      width: "100%",
                      boxSizing: "border-box",
                      transform: `translateY(${item.start}px)`,
                    }}
                    onClick={() => open(account)}
                    onKeyDown={() => undefined}
                  >
                    <b>{account.name}</b>
                    <span>{account.display}</span>
                    <span className="quiet">{account.kind}</span>
                    <span>{account.unit}</span>
                    <AccountState account={account} />
                    <span className="quiet">{account.source}</span>
                  </div>
                );
              })}
            </div>
          </div>
        )}
      </div>
      <Text fz="xs" className="quiet">
        {shown.length === accounts.length
          ? `${accounts.length} accounts`
          : `${shown.length} of ${accounts.length} accounts`}
        {" · ↑ ↓ to move, Enter to open"}
      </Text>
    </>
  );
}
