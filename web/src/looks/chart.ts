import { CategoryScale, Chart, Filler, LinearScale, LineController, LineElement, PointElement, Tooltip } from 'chart.js'

Chart.register(LineController, LineElement, PointElement, LinearScale, CategoryScale, Filler, Tooltip)
Chart.defaults.font.family = "'Spline Sans Mono', monospace"
Chart.defaults.font.size = 11

/** A colour of the looks as charts want it. */
export const chartColour = (name: 'ink' | 'soft' | 'oak' | 'deep' | 'slate' | 'brick' | 'line') =>
  getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim() || '#5e3b1b'

/** A linear axis in our colours, more given as needed. */
export const axis = (title: string, more: object = {}) =>
  ({
    type: 'linear',
    title: { display: title !== '', text: title, color: chartColour('soft') },
    grid: { color: chartColour('line') },
    ticks: { color: chartColour('soft') },
    ...more,
  }) as const

export const PLAIN = { animation: false, maintainAspectRatio: false, responsive: true, parsing: false } as const
