import { createTheme, type CSSVariablesResolver, type MantineColorsTuple } from '@mantine/core';

// Quiet iron greys, and one warm lamp colour for what is live or chosen. Status colours live in look.css alone.
const iron: MantineColorsTuple = [
  '#f4f5f6',
  '#e9ebed',
  '#d5d9dd',
  '#b6bdc4',
  '#8f99a2',
  '#6b7680',
  '#505b64',
  '#3a444b',
  '#262e33',
  '#171c20',
];
const lamp: MantineColorsTuple = [
  '#fdf4e7',
  '#f8e4c6',
  '#f2cd95',
  '#edb562',
  '#e69f3c',
  '#cf8420',
  '#a85a00',
  '#8f4c00',
  '#733d00',
  '#552d00',
];

export const theme = createTheme({
  colors: {
    iron,
    lamp,
    gray: iron,
    dark: [...iron].map((c, i) =>
      i < 4 ? ['#e4e8eb', '#c3cad0', '#a3adb5', '#7d8891'][i] : c,
    ) as unknown as MantineColorsTuple,
  },
  primaryColor: 'lamp',
  primaryShade: 6,
  autoContrast: true,
  luminanceThreshold: 0.35,
  fontFamily: '"Inter Variable", system-ui, sans-serif',
  fontFamilyMonospace: 'ui-monospace, "DejaVu Sans Mono", Menlo, monospace',
  fontSizes: { xs: '12px', sm: '13px', md: '14px', lg: '16px', xl: '19px' },
  defaultRadius: 4,
  components: {
    Tooltip: { defaultProps: { openDelay: 250, withArrow: false } },
    InputWrapper: { styles: { description: { fontSize: '12px' }, error: { fontSize: '12px' } } },
    Modal: { defaultProps: { closeButtonProps: { 'aria-label': 'Close' } } },
  },
});

export const variables: CSSVariablesResolver = () => ({
  variables: {},
  light: {
    '--mantine-color-body': '#f4f5f6',
    '--mantine-color-text': '#1f252a',
    '--mantine-color-dimmed': '#535e67',
    '--mantine-color-error': '#b3261e',
  },
  dark: {
    '--mantine-color-body': '#14181b',
    '--mantine-color-text': '#e4e8eb',
    '--mantine-color-dimmed': '#a3adb5',
    '--mantine-color-error': '#ff8a80',
  },
});
