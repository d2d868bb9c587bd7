// What the charts share: the parts of ECharts that they need, axes and grid.
import { LineChart } from 'echarts/charts'
import { GridComponent, LegendComponent, MarkLineComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import type { Mark, Purge, RatioReport, RatioRow } from '../api'
import type { Palette } from '../colours'
import { clock, plural, tick } from '../format'
import { secondsIn, steps } from './steps'

use([LineChart, GridComponent, LegendComponent, MarkLineComponent, TooltipComponent, CanvasRenderer])

export function base(p: Palette, from: Date, to: Date, yName: string) {
  const axis = { axisLine: { lineStyle: { color: p.line } }, axisLabel: { color: p.quiet }, nameTextStyle: { color: p.quiet }, splitLine: { lineStyle: { color: p.line } } }
  return {
    animation: false,
    textStyle: { fontFamily: 'inherit' },
    grid: { left: 56, right: 16, top: 40, bottom: 40 },
    tooltip: {
      trigger: 'axis' as const,
      backgroundColor: p.panel,
      borderColor: p.line,
      textStyle: { color: p.ink, fontSize: 12 },
    },
    xAxis: {
      type: 'time' as const,
      min: from.getTime(),
      max: to.getTime(),
      name: 'local time',
      nameLocation: 'middle' as const,
      nameGap: 24,
      ...axis,
      splitLine: { show: false },
      axisLabel: { color: p.quiet, hideOverlap: true, formatter: tick },
    },
    yAxis: { type: 'value' as const, name: yName, nameLocation: 'end' as const, ...axis, nameTextStyle: { color: p.quiet, align: 'left' as const, padding: [0, 0, 0, -48] } },
  }
}

/** How many purges are marked at most: more would hide what they are meant to explain. */
export const markedPurges = 12

/** What a mark of the time line says in a line. */
export function says(m: Mark): string {
  const what = { mark: '', revision: 'policy, revision ', restart: 'start of node ', switch: 'switch of ', release: 'release ', purge: 'purge ' }[m.kind]
  const of = m.kind === 'release' ? `on ${m.detail}` : m.detail
  return `${what}${m.name === '*' ? 'all routes' : m.name}${of ? `: ${of}` : ''}`
}

/** The largest purges, and what else happened, as thin vertical marks that tell more on hover. */
export function marks(p: Palette, purges: Purge[], happened: Mark[]) {
  const largest = [...purges].sort((a, b) => b.matched.entries - a.matched.entries).slice(0, markedPurges)
  return {
    silent: false,
    symbol: 'none' as const,
    label: { show: false },
    lineStyle: { color: p.ink, width: 1, type: 'dotted' as const, opacity: 0.7 },
    emphasis: { label: { show: true, color: p.ink, backgroundColor: p.panel, padding: 4, formatter: (m: { name: string }) => m.name } },
    data: [
      ...largest.map((x) => ({ xAxis: new Date(x.at).getTime(), name: `${clock(x.at)} purge ${x.sequence}: ${plural(x.matched.entries, 'entry', 'entries')}` })),
      ...happened.map((x) => ({ xAxis: new Date(x.at).getTime(), name: `${clock(x.at)} ${says(x)}`, lineStyle: { type: 'dashed' as const, opacity: 1 } })),
    ],
  }
}

/** One line of a chart: a value for each step, a gap where nothing was counted, a dot where a value stands alone. */
export function course(report: RatioReport, pick: (r: RatioRow, seconds: number) => number | null | undefined) {
  const data = steps(report).map(([at, row]): [number, number | null] => [at, row ? (pick(row, secondsIn(report, row.at!)) ?? null) : null])
  const alone = (i: number) => data[i]?.[1] != null && data[i - 1]?.[1] == null && data[i + 1]?.[1] == null
  return {
    type: 'line' as const,
    data,
    connectNulls: false,
    symbol: 'circle',
    symbolSize: (_: unknown, at: { dataIndex: number }) => (alone(at.dataIndex) ? 4 : 0),
    showAllSymbol: true,
  }
}
