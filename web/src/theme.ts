/** All colours and measures. Nothing else in the page names a colour. */

const light = {
  ground: "#E9EDE9", sheet: "#FAFCFA", sunk: "#DDE4DF", rule: "#CFD8D2", ink: "#20282B", ink2: "#566066", act: "#1F5B4F", onAct: "#FFFFFF",
  chosen: "#DCE9E3", metrics: "#34639E", logs: "#82590E", traces: "#84407C", flows: "#166A64",
  critical: "#A01F2D", major: "#A04615", minor: "#785B00", warning: "#456484", clear: "#2F6F4F",
};

export type Colours = typeof light;

const dark: Colours = {
  ground: "#161C1D", sheet: "#1E2627", sunk: "#2A3436", rule: "#313D3E", ink: "#E6ECE9", ink2: "#A9B5B2", act: "#7CC4AE", onAct: "#10201C",
  chosen: "#24403A", metrics: "#86AEE0", logs: "#D9A94A", traces: "#CF8BC8", flows: "#5FC2B8",
  critical: "#F07A82", major: "#E9965F", minor: "#D9B84A", warning: "#8FB3D6", clear: "#79BE97",
};

/** Ten colours that stay apart for colour-blind readers; from the sixth on the dash differs too. */
const seriesLight = ["#34639E", "#B5521C", "#14766E", "#84407C", "#8A6A00", "#5B5FC7", "#A01F2D", "#3E7A35", "#5D666B", "#A3447F"];
const seriesDark = ["#86AEE0", "#E9965F", "#5FC2B8", "#CF8BC8", "#D9B84A", "#A9ACF5", "#F07A82", "#93CC86", "#B4BDBB", "#EE9CCB"];

export const dashes: (number[] | undefined)[] = [undefined, undefined, undefined, undefined, undefined, [7, 3], [7, 3], [2, 3], [2, 3], [9, 3, 2, 3]];

export const themes = {
  light: { ...light, name: "light" as "light" | "dark", series: seriesLight, text: '"Atkinson Hyperlegible Next Variable", sans-serif', mono: '"Atkinson Hyperlegible Mono Variable", monospace', corner: "4px" },
  dark: { ...dark, name: "dark" as "light" | "dark", series: seriesDark, text: '"Atkinson Hyperlegible Next Variable", sans-serif', mono: '"Atkinson Hyperlegible Mono Variable", monospace', corner: "4px" },
};

export type Theme = typeof themes.light;

declare module "styled-components" {
  // eslint-disable-next-line @typescript-eslint/no-empty-object-type
  export interface DefaultTheme extends Theme {}
}
