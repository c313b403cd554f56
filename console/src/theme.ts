import { createTheme, type CSSVariablesResolver, type MantineColorsTuple } from '@mantine/core';

const depth: MantineColorsTuple = [
  '#eaf3f1',
  '#d3e5e1',
  '#a9cdc6',
  '#7cb4aa',
  '#549b90',
  '#3a857a',
  '#2a7167',
  '#1f5d55',
  '#174a44',
  '#0f3833',
];
const alarm: MantineColorsTuple = [
  '#fbece8',
  '#f5d3cb',
  '#eaa899',
  '#df7c67',
  '#d05840',
  '#bd4029',
  '#a12d1b',
  '#8a2516',
  '#701d11',
  '#57160d',
];

/** The components' theme in our own tokens: type, density, the one accent. */
export const theme = createTheme({
  primaryColor: 'depth',
  primaryShade: { light: 7, dark: 6 },
  colors: { depth, alarm },
  fontFamily: 'var(--face)',
  fontFamilyMonospace: 'var(--mono)',
  headings: { fontFamily: 'var(--face)', fontWeight: '600' },
  defaultRadius: 3,
  fontSizes: { xs: '0.8rem', sm: '0.875rem', md: '0.9375rem', lg: '1.05rem', xl: '1.2rem' },
  focusRing: 'auto',
  cursorType: 'pointer',
  components: {
    Button: { defaultProps: { size: 'compact-md' } },
    TextInput: { defaultProps: { size: 'xs' } },
    Textarea: { defaultProps: { size: 'sm' } },
    Select: { defaultProps: { size: 'xs', checkIconPosition: 'right', allowDeselect: false } },
    Checkbox: { defaultProps: { size: 'sm' } },
    Modal: { defaultProps: { centered: true, size: 'lg', transitionProps: { duration: 0 } } },
    Drawer: { defaultProps: { position: 'right', size: 'xl', transitionProps: { duration: 0 } } },
    Menu: { defaultProps: { transitionProps: { duration: 0 } } },
    Tooltip: { defaultProps: { openDelay: 300 } },
  },
});

/** Has the components take our tokens for page, ink and rules, in both schemes. */
export const variables: CSSVariablesResolver = () => ({
  variables: {},
  light: tokens,
  dark: tokens,
});
const tokens = {
  '--mantine-color-body': 'var(--sheet)',
  '--mantine-color-text': 'var(--ink)',
  '--mantine-color-dimmed': 'var(--soft)',
  '--mantine-color-placeholder': 'var(--soft)',
  '--mantine-color-default': 'var(--sheet)',
  '--mantine-color-default-hover': 'var(--raised)',
  '--mantine-color-default-color': 'var(--ink)',
  '--mantine-color-default-border': 'var(--rule-strong)',
  '--mantine-color-error': 'var(--alarm)',
};
