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
  IconMenu2,
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
  IconX,
} from "@tabler/icons-react";
import { useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { NavLink, useNavigate } from "react-router";
import { DELETE, type SignedIn } from "../api";
import { askOf, useDraft, usePast } from "../past";
import { DraftBanner } from "./DraftBanner";
import { Palette } from "./Palette";
import { PastBanner, PastButton } from "./Past";
import { WhoIs } from "./who";

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

/** Pages about what lies in no area. */
const OF_EVERYBODY: readonly string[] = ["/directories"];

/** The frame of every page: where one can go, on the left. */
export function Shell({ who, children }: { who: SignedIn; children: ReactNode }) {
  const { setColorScheme } = useMantineColorScheme();
  const places = who.reads === "everything" ? PLACES : PLACES.filter(([to]) => !OF_EVERYBODY.includes(to));
  const scheme = useComputedColorScheme("light");
  const client = useQueryClient();
  const past = usePast();
  const draft = useDraft();
  const navigate = useNavigate();
  /** On a small screen: is the menu shown in the place of the page? */
  const [menu, setMenu] = useState(false);
  const signOut = async () => {
    await DELETE("/api/v1/sessions").catch(() => undefined);
    askOf(null);
    client.clear();
    navigate("/sign-in");
  };
  return (
    <div className="shell" data-menu={menu}>
      <div className="side">
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
        <Palette pages={places} />
        <nav style={{ display: "grid", gap: 1, minHeight: 0, overflowY: "auto" }} aria-label="Main">
          {places.map(([to, label, Icon]) => (
            <NavLink key={to} to={to} end={to === "/"} onClick={() => setMenu(false)}>
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
      <div className="body">
        <div className="menu-bar">
          <ActionIcon
            variant="subtle"
            color="gray"
            aria-label={menu ? "Close the menu" : "Open the menu"}
            aria-expanded={menu}
            onClick={() => setMenu((open) => !open)}
          >
            {menu ? <IconX size={20} /> : <IconMenu2 size={20} />}
          </ActionIcon>
          <Text fw={700}>Drawknife</Text>
        </div>
        <PastBanner />
        <DraftBanner />
        <main key={past ?? draft}>
          <WhoIs who={who}>{children}</WhoIs>
        </main>
      </div>
    </div>
  );
}

/** A page: its title, what is said of it in the heading, what stands beside it, and the rest. */
export function Page({
  title,
  about,
  beside,
  children,
  wide,
}: {
  title: string;
  about?: ReactNode;
  beside?: ReactNode;
  children: ReactNode;
  wide?: boolean;
}) {
  useEffect(() => {
    document.title = `${title} · Drawknife`;
  }, [title]);
  return (
    <div className="page" style={{ maxWidth: wide ? undefined : 1180 }}>
      <Group justify="space-between" gap="xs">
        <h1>
          <Group gap={12}>
            {title}
            {about && (
              <Text fz="sm" className="quiet" fw={400}>
                {about}
              </Text>
            )}
          </Group>
        </h1>
        {beside}
      </Group>
      {children}
    </div>
  );
}
