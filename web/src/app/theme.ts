import { theme, type ThemeConfig } from "antd";

const fontFamily = '"IBM Plex Sans", sans-serif';

/** Paper-light panels, or dim for a dark room; the stage is the same grey in both. */
export function themeOf(dim: boolean): ThemeConfig {
  return {
    algorithm: dim ? theme.darkAlgorithm : theme.defaultAlgorithm,
    token: {
      fontFamily,
      fontSize: 13,
      borderRadius: 3,
      controlHeight: 28,
      colorPrimary: "#36566B",
      colorInfo: "#36566B",
      colorWarning: "#B07F1E",
      colorError: "#A33A2C",
      colorSuccess: "#36566B",
      ...(dim
        ? { colorBgBase: "#1E1D1B", colorTextBase: "#DDD8CE" }
        : {
            colorBgBase: "#FBFAF8",
            colorBgLayout: "#F5F4F1",
            colorBorder: "#DAD7D0",
            colorBorderSecondary: "#E6E3DC",
            colorTextBase: "#211F1C",
          }),
      wireframe: false,
    },
    components: {
      Button: { primaryShadow: "none", defaultShadow: "none", fontWeight: 500 },
      Segmented: { itemSelectedBg: "#36566B", itemSelectedColor: "#FBFAF8" },
      Tooltip: { colorBgSpotlight: "#2B2926" },
    },
  };
}
