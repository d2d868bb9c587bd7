<script setup lang="ts">
import { computed } from 'vue'
import VChart from 'vue-echarts'
import type { Mark, Purge, RatioReport } from '../api'
import { useAppearance } from '../appearance'
import { outcomes } from '../colours'
import { none } from '../format'
import { base, course, marks } from './charts'

const props = defineProps<{ report: RatioReport; purges: Purge[]; happened: Mark[] }>()
const appearance = useAppearance()

const option = computed(() => {
  const p = appearance.palette
  const frame = base(p, new Date(props.report.since), new Date(props.report.until), 'requests per second')
  return {
    ...frame,
    legend: { top: 0, right: 0, icon: 'rect', itemWidth: 10, itemHeight: 10, textStyle: { color: p.ink, fontSize: 12 }, selectedMode: false },
    tooltip: { ...frame.tooltip, valueFormatter: (v: unknown) => (v == null ? none : `${Number(v).toFixed(2)} /s`) },
    series: outcomes.map((o, i) => ({
      name: o,
      ...course(props.report, (r, seconds) => (r.outcomes[o] ?? 0) / seconds),
      stack: 'all',
      lineStyle: { width: 0 },
      itemStyle: { color: p.outcome[o] },
      areaStyle: { color: p.outcome[o], opacity: 0.75 },
      ...(i === 0 ? { markLine: marks(p, props.purges, props.happened) } : {}),
    })),
  }
})
</script>

<template><VChart :option="option" autoresize class="chart" role="img" aria-label="Requests by outcome over time; the table below holds the same figures" /></template>

<style scoped>
.chart { height: 240px; width: 100%; }
</style>
