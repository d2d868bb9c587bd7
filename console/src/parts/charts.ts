// What the charts share: the parts of ECharts that they need, axes and grid.
import { LineChart } from 'echarts/charts'
import { GridComponent, LegendComponent, MarkLineComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import type { Purge, RatioReport } from '../api'
import type { Palette } from '../colours'
import { clock, plural } from '../format'

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
      axisLabel: { color: p.quiet, hideOverlap: true },
    },
    yAxis: { type: 'value' as const, name: yName, nameLocation: 'end' as const, ...axis, nameTextStyle: { color: p.quiet, align: 'left' as const, padding: [0, 0, 0, -48] } },
  }
}

/** How many purges are marked at most: more would hide what they are meant to explain. */
export const markedPurges = 12

/** The largest purges as thin vertical marks, with what they took on hover. */
export function marks(p: Palette, purges: Purge[]) {
  const largest = [...purges].sort((a, b) => b.matched.entries - a.matched.entries).slice(0, markedPurges)
  return {
    silent: false,
    symbol: 'none' as const,
    label: { show: false },
    lineStyle: { color: p.ink, width: 1, type: 'dotted' as const, opacity: 0.7 },
    emphasis: { label: { show: true, color: p.ink, backgroundColor: p.panel, padding: 4, formatter: (m: { name: string }) => m.name } },
    data: largest.map((x) => ({ xAxis: new Date(x.at).getTime(), name: `${clock(x.at)} purge ${x.sequence}: ${plural(x.matched.entries, 'entry', 'entries')}` })),
  }
}

/** How many seconds of a bucket lie within the report: the first and the last are cut. */
export function secondsIn(report: RatioReport, at: string): number {
  const step = report.step_s ?? 60
  const begin = Math.max(Date.parse(at), Date.parse(report.since))
  const end = Math.min(Date.parse(at) + step * 1000, Date.parse(report.until))
  return Math.max(1, (end - begin) / 1000)
}
