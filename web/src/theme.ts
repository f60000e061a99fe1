import { type ThemeConfig, theme } from "antd";
import { useSyncExternalStore } from "react";

/** The tones of the three decisions and of paper and ink, by theme. app.css holds the same as CSS variables. */
const tones = {
  light: {
    ink: "#1d2b3a",
    paper: "#faf7f1",
    raised: "#fffdf8",
    rule: "#d9d1c1",
    quiet: "#57616b",
    accent: "#0f5c5e",
    idle: "#8b857a",
  },
  dark: {
    ink: "#e9e4d8",
    paper: "#171d24",
    raised: "#1f2730",
    rule: "#3a4450",
    quiet: "#a5adb4",
    accent: "#6fc2bd",
    idle: "#7d8791",
  },
};

/** useMedia reports whether a media query fits the person's system. */
function useMedia(query: string): boolean {
  const media = window.matchMedia(query);
  return useSyncExternalStore(
    (changed) => {
      media.addEventListener("change", changed);
      return () => media.removeEventListener("change", changed);
    },
    () => media.matches,
  );
}

/** useTheme is the theme that the person's system asks for: dark or light, and without motion where that is wanted. */
export const useTheme = () =>
  themeFor(useMedia("(prefers-color-scheme: dark)"), useMedia("(prefers-reduced-motion: reduce)"));

export function themeFor(dark: boolean, still: boolean): ThemeConfig {
  const t = dark ? tones.dark : tones.light;
  return {
    zeroRuntime: true, // the styles are made while the console is built (web/antd.ts)
    hashed: false,
    algorithm: dark ? theme.darkAlgorithm : theme.defaultAlgorithm,
    token: {
      colorPrimary: t.accent,
      colorInfo: t.accent,
      colorLink: t.accent,
      colorTextBase: t.ink,
      colorBgBase: t.paper,
      colorBgContainer: t.raised,
      colorBgElevated: t.raised,
      colorBorder: t.rule,
      colorBorderSecondary: t.rule,
      colorSplit: t.rule,
      colorTextPlaceholder: t.quiet,
      colorTextDisabled: t.idle,
      fontFamily: "'Source Sans 3 Variable', sans-serif",
      fontSize: 16,
      borderRadius: 3,
      controlHeight: 40,
      boxShadowSecondary: "none",
      wireframe: false,
      motion: !still,
    },
    components: {
      Segmented: { trackBg: dark ? "#2e3844" : "#e6dfd0", itemColor: t.ink },
      Button: { primaryShadow: "none", defaultShadow: "none", colorTextLightSolid: dark ? "#10262a" : "#fffdf8" },
    },
  };
}
