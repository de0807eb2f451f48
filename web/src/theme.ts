import { createTheme } from '@mui/material'

// Ink on paper, one accent, and colour only where it means something. Every pair
// of text and ground reaches a contrast of 4.5:1.
const light = { paper: '#F7F5F0', surface: '#FFFFFF', ink: '#1C2530', quiet: '#5B6672', line: '#DDD8CE', accent: '#0F6B5C', warn: '#8F5F00', danger: '#A8321F' }
const dark = { paper: '#12181D', surface: '#1A2229', ink: '#E8E4DA', quiet: '#9AA5AE', line: '#2C363E', accent: '#5FC2AC', warn: '#E0B04B', danger: '#F0846C' }

const palette = (c: typeof light) => ({
  primary: { main: c.accent, contrastText: c.surface },
  warning: { main: c.warn, contrastText: c.surface },
  error: { main: c.danger, contrastText: c.surface },
  background: { default: c.paper, paper: c.surface },
  text: { primary: c.ink, secondary: c.quiet },
  divider: c.line,
})

const text = "'Source Sans 3 Variable', system-ui, sans-serif"
export const mono = "'Source Code Pro Variable', ui-monospace, monospace"

// Four sizes, two weights.
const size = { small: '0.8125rem', body: '0.9375rem', lead: '1.125rem', title: '1.5rem' }
const strong = 600

export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data-scheme' },
  colorSchemes: { light: { palette: palette(light) }, dark: { palette: palette(dark) } },
  shape: { borderRadius: 6 },
  typography: {
    fontFamily: text,
    fontWeightBold: strong,
    body1: { fontSize: size.body },
    body2: { fontSize: size.small },
    caption: { fontSize: size.small },
    button: { fontSize: size.body, fontWeight: 400, textTransform: 'none' },
    h1: { fontSize: size.title, fontWeight: strong, lineHeight: 1.25 },
    h2: { fontSize: size.lead, fontWeight: strong, lineHeight: 1.4 },
    h3: { fontSize: size.body, fontWeight: strong },
  },
  transitions: { duration: { shortest: 80, shorter: 100, short: 120, standard: 140, complex: 140, enteringScreen: 120, leavingScreen: 100 } },
  components: {
    MuiCssBaseline: {
      styleOverrides: {
        body: { fontVariantNumeric: 'tabular-nums' },
        '@media (prefers-reduced-motion: reduce)': { '*': { animation: 'none !important', transition: 'none !important' } },
        ':focus-visible': { outline: '2px solid var(--mui-palette-primary-main)', outlineOffset: 1 },
      },
    },
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiPaper: { defaultProps: { elevation: 0, variant: 'outlined' } },
    MuiTab: { styleOverrides: { root: { minHeight: 36, padding: '6px 12px' } } },
    MuiTabs: { styleOverrides: { root: { minHeight: 36 } } },
    MuiTooltip: { defaultProps: { enterDelay: 200 } },
    MuiLink: { defaultProps: { underline: 'hover' } },
  },
})
