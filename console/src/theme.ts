import { createTheme, type MantineColorsTuple } from "@mantine/core";

/** Verdigris: the one accent. Everything else is paper, ink, and three signs. */
const verdigris: MantineColorsTuple = [
  "#eaf6f3",
  "#d3eae5",
  "#a6d6cc",
  "#76c0b2",
  "#4fad9c",
  "#37a18d",
  "#288674",
  "#1f6d5f",
  "#16574c",
  "#0a4038",
];
const ink: MantineColorsTuple = [
  "#d7d3ca",
  "#bdb8ad",
  "#a39e93",
  "#87837a",
  "#66635d",
  "#45443f",
  "#32322e",
  "#262623",
  "#1d1d1b",
  "#151513",
];

export const theme = createTheme({
  primaryColor: "verdigris",
  autoContrast: true,
  primaryShade: { light: 7, dark: 4 },
  colors: { verdigris, dark: ink },
  fontFamily: "'Inter', 'Segoe UI', 'Noto Sans', 'DejaVu Sans', system-ui, sans-serif",
  fontFamilyMonospace: "'JetBrains Mono', 'Noto Sans Mono', 'DejaVu Sans Mono', ui-monospace, monospace",
  fontSizes: { xs: "12px", sm: "13px", md: "14px", lg: "16px", xl: "19px" },
  defaultRadius: "sm",
  headings: {
    fontWeight: "650",
    sizes: { h1: { fontSize: "22px" }, h2: { fontSize: "16px" }, h3: { fontSize: "14px" } },
  },
  cursorType: "pointer",
  // A button that is pressed does not move: what it pushes aside could take it away from under the mouse.
  activeClassName: "",
  components: {
    TextInput: { defaultProps: { size: "sm" } },
    Button: { defaultProps: { size: "sm" } },
    Modal: { defaultProps: { closeButtonProps: { "aria-label": "Close" } } },
  },
});
