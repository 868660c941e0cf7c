import { theme as antd, type ThemeConfig } from 'antd'

const FONT = "'Commissioner Variable', sans-serif"
const FIGURES = "'Spline Sans Mono', monospace"

/** Ant Design in our clothes. The same colours as CSS variables are in base.css. */
export function themeFor(evening: boolean): ThemeConfig {
  return {
    algorithm: evening ? [antd.darkAlgorithm, antd.compactAlgorithm] : antd.compactAlgorithm,
    token: {
      fontFamily: FONT,
      fontFamilyCode: FIGURES,
      fontSize: 13.5,
      borderRadius: 3,
      borderRadiusLG: 4,
      borderRadiusSM: 2,
      controlHeight: 30,
      wireframe: false,
      motionDurationMid: '0.12s',
      motionDurationSlow: '0.18s',
      colorPrimary: evening ? '#C98A45' : '#5E3B1B',
      colorInfo: evening ? '#8FB4CF' : '#2F5168',
      colorLink: evening ? '#8FB4CF' : '#2F5168',
      colorError: evening ? '#E08A78' : '#A63D2F',
      colorWarning: '#8A5A2B',
      colorSuccess: evening ? '#8FB4CF' : '#2F5168',
      ...(evening
        ? {
            colorBgBase: '#26211B',
            colorTextBase: '#EDE4D3',
            colorBorder: '#8A7656',
            colorBgContainer: '#2E2821',
            colorBgElevated: '#332C24',
            colorTextLightSolid: '#1D1915',
          }
        : {
            colorBgBase: '#FDFAF3',
            colorTextBase: '#2B2520',
            colorBorder: '#8C764F',
            colorBorderSecondary: '#E2D5BC',
            colorBgContainer: '#FFFDF8',
            colorBgElevated: '#FFFDF8',
          }),
    },
    components: {
      Button: { fontWeight: 600, defaultShadow: 'none', primaryShadow: 'none', dangerShadow: 'none', controlHeight: 36 },
      Segmented: { itemColor: evening ? '#C4B8A4' : '#5C5247', itemSelectedBg: evening ? '#4A3E2F' : '#FFFDF8', trackBg: evening ? '#231E19' : '#E9DEC9' },
      Drawer: { paddingLG: 18 },
      Tooltip: { colorBgSpotlight: '#2B2520' },
    },
  }
}
