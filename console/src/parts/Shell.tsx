import { ActionIcon, Group, Kbd, Text, Tooltip, useComputedColorScheme, useMantineColorScheme } from "@mantine/core";
import { spotlight } from "@mantine/spotlight";
import {
  IconAddressBook,
  IconArrowsDiff,
  IconBook2,
  IconDoorEnter,
  IconGauge,
  IconGridDots,
  IconHome,
  IconLogout,
  IconMoon,
  IconPencilCheck,
  IconPlayerPlay,
  IconReportAnalytics,
  IconRoute,
  IconSearch,
  IconServer,
  IconShieldCheck,
  IconSun,
  IconTemplate,
  IconTestPipe,
  IconUserQuestion,
  IconUserShield,
  IconUsers,
  IconUsersGroup,
} from "@tabler/icons-react";
import { useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { NavLink, useNavigate } from "react-router";
import { DELETE, type SignedIn } from "../api";
import { askOf, useDraft, usePast } from "../past";
import { DraftBanner } from "./DraftBanner";
import { Palette } from "./Palette";
import { PastBanner, PastButton } from "./Past";

const PLACES = [
  ["/", "Overview", IconHome],
  ["/stores", "Stores and folders", IconServer],
  ["/accounts", "Accounts", IconUsers],
  ["/groups", "Groups and units", IconUsersGroup],
  ["/directories", "Directories", IconAddressBook],
  ["/endpoints", "Endpoints", IconDoorEnter],
  ["/virtual-paths", "Virtual paths", IconRoute],
  ["/limits", "Usage and limits", IconGauge],
  ["/who", "Who can", IconUserQuestion],
  ["/map", "Map", IconGridDots],
  ["/compare", "Compare", IconArrowsDiff],
  ["/promises", "Promises", IconShieldCheck],
  ["/trials", "Trials", IconTestPipe],
  ["/rehearsal", "Rehearsal", IconPlayerPlay],
  ["/patterns", "Patterns", IconTemplate],
  ["/drafts", "Drafts", IconPencilCheck],
  ["/reports", "Reports", IconReportAnalytics],
  ["/journal", "Journal", IconBook2],
  ["/administrators", "Administrators", IconUserShield],
] as const;

/** The frame of every page: where one can go, on the left. */
export function Shell({ who, children }: { who: SignedIn; children: ReactNode }) {
  const { setColorScheme } = useMantineColorScheme();
  const scheme = useComputedColorScheme("light");
  const client = useQueryClient();
  const past = usePast();
  const draft = useDraft();
  const navigate = useNavigate();
  const signOut = async () => {
    await DELETE("/api/v1/sessions").catch(() => undefined);
    askOf(null);
    client.clear();
    navigate("/sign-in");
  };
  return (
    <div style={{ display: "grid", gridTemplateColumns: "216px minmax(0, 1fr)", height: "100vh" }}>
      <div
        style={{
          borderRight: "1px solid var(--edge)",
          display: "flex",
          flexDirection: "column",
          padding: 12,
        }}
      >
        <Group gap={10} px={10} py={6} mb={10}>
          <img src="/mark.svg" width={26} height={26} alt="" />
          <Text fw={700} fz={16} style={{ letterSpacing: "-0.01em" }}>
            Drawknife
          </Text>
        </Group>
        <button type="button" className="goto" onClick={spotlight.open} aria-label="Go to anything by its name">
          <IconSearch size={15} stroke={1.6} />
          <span style={{ flex: 1 }}>Go to …</span>
          <Kbd size="xs">Ctrl K</Kbd>
        </button>
        <Palette pages={PLACES} />
        <nav style={{ display: "grid", gap: 1, minHeight: 0, overflowY: "auto" }} aria-label="Main">
          {PLACES.map(([to, label, Icon]) => (
            <NavLink key={to} to={to} end={to === "/"}>
              <Icon size={17} stroke={1.6} />
              {label}
            </NavLink>
          ))}
        </nav>
        <div style={{ flex: 1 }} />
        <PastButton />
        <Group justify="space-between" px={6}>
          <Text fz="xs" className="quiet" truncate maw={130} title={`${who.name}, ${who.role}`}>
            {who.name}, {who.role}
          </Text>
          <Group gap={4}>
            <Tooltip label={scheme === "dark" ? "Light" : "Dark"}>
              <ActionIcon
                variant="subtle"
                color="gray"
                aria-label="Switch light and dark"
                onClick={() => setColorScheme(scheme === "dark" ? "light" : "dark")}
              >
                {scheme === "dark" ? <IconSun size={17} /> : <IconMoon size={17} />}
              </ActionIcon>
            </Tooltip>
            <Tooltip label="Sign out">
              <ActionIcon variant="subtle" color="gray" aria-label="Sign out" onClick={signOut}>
                <IconLogout size={17} />
              </ActionIcon>
            </Tooltip>
          </Group>
        </Group>
      </div>
      <div style={{ display: "flex", flexDirection: "column", minWidth: 0, minHeight: 0 }}>
        <PastBanner />
        <DraftBanner />
        <main key={past ?? draft} style={{ overflow: "auto", minWidth: 0, flex: 1 }}>
          {children}
        </main>
      </div>
    </div>
  );
}

/** A page: its title, what stands beside it, and the rest. */
export function Page({
  title,
  beside,
  children,
  wide,
}: {
  title: ReactNode;
  beside?: ReactNode;
  children: ReactNode;
  wide?: boolean;
}) {
  return (
    <div
      style={{
        display: "flex",
        flexDirection: "column",
        gap: 14,
        height: "100%",
        padding: "18px 24px",
        maxWidth: wide ? undefined : 1180,
        boxSizing: "border-box",
      }}
    >
      <Group justify="space-between" wrap="nowrap">
        <h1 style={{ margin: 0, fontSize: 21, fontWeight: 650, letterSpacing: "-0.01em" }}>{title}</h1>
        {beside}
      </Group>
      {children}
    </div>
  );
}
