<script setup lang="ts">
import { NButton } from 'naive-ui'
import { computed, ref } from 'vue'
import type { RatioReport, RatioRow } from '../api'
import { outcomes } from '../colours'
import { count, moment, percent, utc } from '../format'
import { figure, type Column } from './columns'
import DataTable from './DataTable.vue'

// The table behind the charts, for those who cannot see them, and its CSV.
const props = defineProps<{ report: RatioReport }>()
const open = ref(false)
const newestFirst = computed(() => [...props.report.rows].reverse())
const columns: Column<RatioRow>[] = [
  { key: 'at', title: 'from', by: (r) => r.at, text: (r) => moment(r.at!), tip: (r) => utc(r.at!), look: 'moment', width: 156 },
  ...outcomes.map((o) => ({ ...figure<RatioRow, number>(o, o, (r) => r.outcomes[o] ?? 0, count), width: 92 })),
  { ...figure('ratio', 'hit ratio', (r: RatioRow) => r.hit_ratio, percent), width: 84 },
  { ...figure('byteRatio', 'byte hit ratio', (r: RatioRow) => r.byte_hit_ratio, percent), width: 110 },
  figure('offload', 'offload', (r) => r.offload, percent),
]

function save() {
  const lines = [['time', ...outcomes, 'hit_ratio', 'byte_hit_ratio', 'offload'].join(',')]
  for (const r of props.report.rows) lines.push([r.at, ...outcomes.map((o) => r.outcomes[o] ?? 0), r.hit_ratio ?? '', r.byte_hit_ratio ?? '', r.offload ?? ''].join(','))
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([lines.join('\r\n') + '\r\n'], { type: 'text/csv' }))
  link.download = 'gerastic-ratio.csv'
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <details class="panel" @toggle="open = ($event.target as HTMLDetailsElement).open">
    <summary>The figures behind the charts</summary>
    <NButton size="small" class="save" @click="save">Save as CSV</NButton>
    <DataTable v-if="open" label="The figures behind the charts" :columns="columns" :rows="newestFirst" :row-key="(r) => r.at!" :tall="360" />
  </details>
</template>

<style scoped>
summary { cursor: pointer; }
.save { margin: 8px 0; }
</style>
