<script setup lang="ts">
import { computed } from 'vue'
import VChart from 'vue-echarts'
import type { Mark, Purge, RatioReport, RatioRow } from '../api'
import { useAppearance } from '../appearance'
import { percent } from '../format'
import { base, course, marks } from './charts'

const props = defineProps<{ report: RatioReport; purges: Purge[]; happened: Mark[] }>()
const appearance = useAppearance()

const option = computed(() => {
  const p = appearance.palette
  const frame = base(p, new Date(props.report.since), new Date(props.report.until), 'per cent')
  const line = (name: string, colour: string, dash: string | number[], pick: (r: RatioRow) => number | null | undefined) => ({
    name,
    ...course(props.report, pick),
    lineStyle: { width: 2, color: colour, type: dash },
    itemStyle: { color: colour },
  })
  return {
    ...frame,
    legend: { top: 0, right: 0, textStyle: { color: p.ink, fontSize: 12 }, selectedMode: false, itemWidth: 24, itemStyle: { opacity: 0 } },
    tooltip: { ...frame.tooltip, valueFormatter: (v: unknown) => percent(v as number | null) },
    yAxis: { ...frame.yAxis, min: 0, max: 1, axisLabel: { color: p.quiet, formatter: (v: number) => `${v * 100} %` } },
    series: [
      { ...line('hit ratio', p.outcome.hit, 'solid', (r) => r.hit_ratio), markLine: marks(p, props.purges, props.happened) },
      line('byte hit ratio', p.ink, 'dotted', (r) => r.byte_hit_ratio),
      line('offload', p.quiet, [6, 4], (r) => r.offload),
    ],
  }
})
</script>

<template><VChart :option="option" autoresize class="chart" role="img" aria-label="Hit ratio, byte hit ratio and offload over time; the table below holds the same figures" /></template>

<style scoped>
.chart { height: 200px; width: 100%; }
</style>
