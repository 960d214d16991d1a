import { theme, type ConfigProviderProps } from 'ant-design-vue'

/** Ant Design Vue's controls in our colours: paper, plum ink, square corners. */
export function controlTheme(dark: boolean): ConfigProviderProps['theme'] {
  const plum = dark ? '#d79ac6' : '#6b2a5b'
  return {
    algorithm: dark ? theme.darkAlgorithm : theme.defaultAlgorithm,
    token: {
      colorPrimary: plum,
      colorInfo: plum,
      colorLink: plum,
      colorBgBase: dark ? '#1a1e1d' : '#f6f8f4',
      colorTextBase: dark ? '#e3e8e2' : '#23282a',
      colorTextLightSolid: dark ? '#1c0f18' : '#ffffff',
      // Of choices that are not taken, such as in a row of them.
      colorTextLabel: dark ? '#b4beb6' : '#4b554e',
      colorBorder: dark ? '#4a524f' : '#9aa79c',
      borderRadius: 1,
      fontFamily: "'Atkinson Hyperlegible', sans-serif",
      fontSize: 14,
      controlHeight: 28,
      wireframe: true,
    },
  }
}
