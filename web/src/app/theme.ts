import { type CSSVariablesResolver, createTheme, type MantineColorsTuple } from "@mantine/core";

const tarn: MantineColorsTuple = [
  "#e8f1f3",
  "#d0e1e5",
  "#a3c5cd",
  "#73a7b4",
  "#4a8c9c",
  "#2f7385",
  "#24647a",
  "#1d5566",
  "#164552",
  "#0e333d",
];

export const theme = createTheme({
  fontFamily: "'Atkinson Hyperlegible Next Variable', sans-serif",
  fontFamilyMonospace: "'Atkinson Hyperlegible Mono', monospace",
  fontSizes: { xs: "15px", sm: "16px", md: "17px", lg: "19px", xl: "22px" },
  colors: { tarn },
  primaryColor: "tarn",
  primaryShade: { light: 7, dark: 5 },
  defaultRadius: 4,
});

export const variables: CSSVariablesResolver = () => ({
  variables: {},
  light: {
    "--mantine-color-body": "#f4f5f2",
    "--mantine-color-text": "#231f1b",
    "--mantine-color-dimmed": "#4a443d",
    "--mantine-color-placeholder": "#6b655e",
  },
  dark: {
    "--mantine-color-body": "#231f1b",
    "--mantine-color-text": "#f4f5f2",
    "--mantine-color-dimmed": "#cfd5d3",
    "--mantine-color-placeholder": "#b5bcba",
  },
});
