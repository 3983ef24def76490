import { theme, type ThemeConfig } from 'antd'

/** Colours by name; light and dark hold the same names. */
const light = {
  paper: '#F3EFE7',
  panel: '#FBF9F4',
  line: '#DFD8CA',
  ink: '#22302B',
  muted: '#5F6962',
  elm: '#1F5D4C',
  onElm: '#F6F3EA',
  ember: '#CF5F28',
  amber: '#8F6005',
  ok: '#2F7A52',
  bad: '#B23A2E',
  viewTop: '#EDF1F0',
  viewBottom: '#CFD9D7',
  /** Marks that stand on a colour of their own, with ink on them. */
  look: '#D99A22',
  onLook: '#22302B',
  onBad: '#FFFFFF',
  /** Lines of drawings on the material's colour. */
  drawn: '#A98A56',
  shadow: 'rgb(34 48 43 / 0.2)',
  /** What lies lightly on the header, by how much it stands out. */
  onHeader: 'rgb(255 255 255 / 0.12)',
  onHeaderPointed: 'rgb(255 255 255 / 0.22)',
  onHeaderLine: 'rgb(255 255 255 / 0.35)',
  band: 'rgb(207 95 40 / 0.1)',
}

const dark: typeof light = {
  paper: '#171D1A',
  panel: '#1E2522',
  line: '#35403B',
  ink: '#E8E6DD',
  muted: '#A3ADA6',
  elm: '#1B4F41',
  onElm: '#F0EEE4',
  ember: '#E9814B',
  amber: '#E0AC46',
  ok: '#6CBF93',
  bad: '#E5776A',
  viewTop: '#2C3533',
  viewBottom: '#1A2120',
  look: '#D99A22',
  onLook: '#22302B',
  onBad: '#FFFFFF',
  drawn: '#C9A66C',
  shadow: 'rgb(0 0 0 / 0.4)',
  onHeader: 'rgb(255 255 255 / 0.12)',
  onHeaderPointed: 'rgb(255 255 255 / 0.22)',
  onHeaderLine: 'rgb(255 255 255 / 0.35)',
  band: 'rgb(233 129 75 / 0.14)',
}

export type Mode = 'light' | 'dark'
export const colours = (mode: Mode) => (mode === 'dark' ? dark : light)

/** Materials by role, the same in both modes: they are what the picture shows. */
export const materials = { fill: '#D8C29A', skin: '#8FA3A0', solid: '#6F8BA0' }
/** Cut faces where colours tell how thick walls are. */
export const plainCut = '#C4BFB3'
/** What is drawn into the picture beside the part, the same in both modes. */
export const inPicture = {
  /** Faces of the part while some are picked, and those that are. */
  face: '#C6CCC8',
  picked: light.ember,
  loop: light.elm,
  cutEdge: light.ember,
  seedPoint: light.ember,
  /** Directions of a sheet. */
  u: light.ember,
  v: light.elm,
  /** Words on a ground of their own. */
  sign: light.ink,
  onSign: '#FFFFFF',
  mark: light.ember,
  shade: '12, 20, 18',
}
/** Axes of the handle that moves things, and the axis that is pointed at. */
export const handleColours = ['#B4532A', '#2F7F86', '#8A7A2E', light.ink] as const
/** Struts by how they lie in the part. */
export const strutColours = {
  inside: materials.solid,
  surface: '#D2A04A',
  net: '#2F7A6A',
  deadEnd: '#C2412D',
}
/** Ordered values, dark to warm. */
export const scale = ['#173F5F', '#2F7F86', '#9DBE92', '#EBCB78', '#D8692B']

export const text = "'Hanken Grotesk Variable', sans-serif"
export const title = "'Bricolage Grotesque Variable', sans-serif"
export const figures = "'JetBrains Mono Variable', monospace"

/** Puts the colours where style sheets find them. */
export function applyColours(mode: Mode) {
  const root = document.documentElement
  root.dataset.mode = mode
  root.style.colorScheme = mode
  for (const [name, value] of Object.entries({ ...colours(mode), ...materials })) {
    root.style.setProperty(`--${name}`, value)
  }
}

export function antTheme(mode: Mode): ThemeConfig {
  const c = colours(mode)
  const primary = mode === 'dark' ? '#4FA287' : c.elm
  return {
    algorithm: mode === 'dark' ? theme.darkAlgorithm : theme.defaultAlgorithm,
    token: {
      colorPrimary: primary,
      colorInfo: primary,
      colorLink: primary,
      colorError: c.bad,
      colorWarning: c.amber,
      colorSuccess: c.ok,
      colorText: c.ink,
      colorTextSecondary: c.muted,
      colorTextDescription: c.muted,
      colorBgBase: c.panel,
      colorBgContainer: c.panel,
      colorBgElevated: c.panel,
      colorBorder: c.line,
      colorBorderSecondary: c.line,
      borderRadius: 7,
      fontFamily: text,
      fontSize: 13,
      controlHeight: 30,
      wireframe: false,
      motion: !window.matchMedia('(prefers-reduced-motion: reduce)').matches,
      motionDurationMid: '0.12s',
    },
    components: {
      Slider: {
        handleSize: 11,
        handleSizeHover: 12,
        railSize: 4,
        handleLineWidth: 2.5,
        trackBg: primary,
        trackHoverBg: primary,
        railBg: c.line,
        railHoverBg: c.line,
        handleColor: primary,
      },
      InputNumber: { controlWidth: 92, paddingInline: 8 },
      Segmented: {
        trackBg: mode === 'dark' ? '#2A322E' : '#ECE6D8',
        itemSelectedBg: c.panel,
        trackPadding: 2,
      },
      Button: {
        fontWeight: 600,
        primaryShadow: 'none',
        defaultShadow: 'none',
        // White words stand on the first two; the others are words on the panel.
        ...(mode === 'dark' && {
          colorPrimary: '#2F7A63',
          colorPrimaryHover: '#37876E',
          defaultHoverColor: '#74BFA6',
          defaultHoverBorderColor: primary,
          defaultActiveColor: '#5FB096',
          defaultActiveBorderColor: primary,
        }),
      },
      Modal: { titleFontSize: 18 },
    },
  }
}
