// The one place where colours are set: for the components and for the charts.
// Colour says how a request ended, and nothing else; the rest is ink on paper.
import type { GlobalThemeOverrides } from 'naive-ui'

export const outcomes = ['hit', 'stale', 'revalidated', 'joined', 'miss', 'bypass', 'error'] as const
export type Outcome = (typeof outcomes)[number]

export interface Palette {
  ground: string
  panel: string
  ink: string
  quiet: string
  line: string
  accent: string
  danger: string
  outcome: Record<Outcome, string>
}

export const light: Palette = {
  ground: '#FBFBF9',
  panel: '#FFFFFF',
  ink: '#1B2329',
  quiet: '#5A6872',
  line: '#DDE2E5',
  accent: '#0B5C7A',
  danger: '#9B1C31',
  outcome: {
    hit: '#1B6E53',
    stale: '#8A6A12',
    revalidated: '#2F6690',
    joined: '#6A4C93',
    miss: '#A8471F',
    bypass: '#6B7680',
    error: '#9B1C31',
  },
}

export const dark: Palette = {
  ground: '#12171B',
  panel: '#1A2126',
  ink: '#E4E9EC',
  quiet: '#97A5AE',
  line: '#2C363D',
  accent: '#6FC1E0',
  danger: '#F08A9B',
  outcome: {
    hit: '#55B894',
    stale: '#D3AC45',
    revalidated: '#79B0DA',
    joined: '#B198D6',
    miss: '#E58A5E',
    bypass: '#8E9AA3',
    error: '#F08A9B',
  },
}

const text = 'system-ui, -apple-system, "Segoe UI", Roboto, "Noto Sans", sans-serif'
export const mono = 'ui-monospace, SFMono-Regular, Menlo, "DejaVu Sans Mono", monospace'

export function overrides(p: Palette): GlobalThemeOverrides {
  return {
    common: {
      fontFamily: text,
      fontFamilyMono: mono,
      fontSize: '14px',
      borderRadius: '3px',
      bodyColor: p.ground,
      cardColor: p.panel,
      modalColor: p.panel,
      popoverColor: p.panel,
      tableColor: p.panel,
      inputColor: p.panel,
      textColorBase: p.ink,
      textColor1: p.ink,
      textColor2: p.ink,
      textColor3: p.quiet,
      placeholderColor: p.quiet,
      borderColor: p.line,
      dividerColor: p.line,
      primaryColor: p.accent,
      primaryColorHover: p.accent,
      primaryColorPressed: p.accent,
      primaryColorSuppl: p.accent,
      errorColor: p.danger,
      errorColorHover: p.danger,
      errorColorPressed: p.danger,
      errorColorSuppl: p.danger,
      boxShadow1: 'none',
      boxShadow2: `0 0 0 1px ${p.line}`,
    },
    Input: { border: `1px solid ${p.line}`, color: p.ground, colorFocus: p.ground, borderHover: `1px solid ${p.quiet}`, borderFocus: `1px solid ${p.accent}` },
    InternalSelection: { border: `1px solid ${p.line}`, borderHover: `1px solid ${p.quiet}`, color: p.ground, colorActive: p.ground },
    DataTable: { thColor: p.panel, thColorHover: p.panel, thTextColor: p.quiet, thFontWeight: '500', thIconColor: p.line, tdColor: p.panel, tdColorHover: p.ground, tdColorSorting: p.panel, tdColorStriped: p.panel, thColorSorting: p.panel, borderColor: p.line, fontSizeSmall: '13px', thPaddingSmall: '6px 8px', tdPaddingSmall: '5px 8px' },
    Switch: { railColorActive: p.outcome.hit },
    Button: { textColorPrimary: p.ground, textColorHoverPrimary: p.ground, textColorFocusPrimary: p.ground, textColorPressedPrimary: p.ground, textColorError: p.ground, textColorHoverError: p.ground, textColorFocusError: p.ground, textColorPressedError: p.ground },
  }
}

// Custom properties for the few styles that are ours.
export function properties(p: Palette): Record<string, string> {
  const all: Record<string, string> = {
    '--ground': p.ground,
    '--panel': p.panel,
    '--ink': p.ink,
    '--quiet': p.quiet,
    '--line': p.line,
    '--accent': p.accent,
    '--danger': p.danger,
    '--mono': mono,
  }
  for (const o of outcomes) all[`--${o}`] = p.outcome[o]
  return all
}
