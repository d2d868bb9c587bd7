<script setup lang="ts">
import { computed } from 'vue'
import VChart from 'vue-echarts'
import type { SizeReport } from '../api'
import { useAppearance } from '../appearance'
import { bytes } from '../format'
import { base } from './charts'

const props = defineProps<{ report: SizeReport }>()
const appearance = useAppearance()

const option = computed(() => {
  const p = appearance.palette
  const frame = base(p, new Date(props.report.since), new Date(props.report.until), 'MiB')
  const of = (tier: string, pick: 'bytes' | 'limit_bytes') => props.report.rows.filter((r) => r.tier === tier).map((r) => [Date.parse(r.at), r[pick] / 2 ** 20])
  const line = (name: string, data: number[][], colour: string, dash: string | number[]) => ({ name, type: 'line' as const, data, symbol: 'circle', symbolSize: data.length < 2 ? 5 : 0, lineStyle: { width: 2, color: colour, type: dash }, itemStyle: { color: colour } })
  const tiers = ['memory', 'disk'].filter((t) => props.report.rows.some((r) => r.tier === t && r.limit_bytes > 0))
  const colour = (tier: string) => (tier === 'memory' ? p.outcome.hit : p.ink)
  return {
    ...frame,
    legend: { top: 0, right: 0, textStyle: { color: p.ink, fontSize: 12 }, selectedMode: false, itemWidth: 24, itemStyle: { opacity: 0 } },
    tooltip: { ...frame.tooltip, valueFormatter: (v: unknown) => bytes(Number(v) * 2 ** 20) },
    series: tiers.flatMap((t) => [line(t === 'disk' ? 'on disk' : 'in memory', of(t, 'bytes'), colour(t), 'solid'), line(t === 'disk' ? 'limit on disk' : 'limit in memory', of(t, 'limit_bytes'), colour(t), [4, 4])]),
  }
})
</script>

<template><VChart :option="option" autoresize class="chart" role="img" aria-label="Bytes of entries in memory and on disk over time, against their limits; the table below holds the same figures" /></template>

<style scoped>
.chart { height: 220px; width: 100%; }
</style>
