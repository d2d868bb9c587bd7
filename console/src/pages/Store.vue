<script setup lang="ts">
import { computed } from 'vue'
import { api, type CurvePoint, type Prime, type SizeRow } from '../api'
import { bytes, count, moment, none, percent, time } from '../format'
import { useLive } from '../live'
import { figure, type Column } from '../parts/columns'
import DataTable from '../parts/DataTable.vue'
import PageHead from '../parts/PageHead.vue'
import SizeChart from '../parts/SizeChart.vue'
import { useRange } from '../range'

const { since, label } = useRange()
const { data, updated, problem } = useLive(async () => {
  const [sizes, curve, primes] = await Promise.all([api.sizes(since.value), api.curve(), api.primes()])
  return { sizes, curve, primes }
}, [since])

const rows = computed(() => [...(data.value?.sizes.rows ?? [])].filter((r) => r.limit_bytes > 0).reverse())
const columns: Column<SizeRow>[] = [
  { key: 'at', title: 'from', by: (r) => r.at, text: (r) => moment(r.at), look: 'moment' },
  { key: 'tier', title: 'tier', by: (r) => r.tier, text: (r) => r.tier },
  figure('entries', 'entries', (r) => r.entries, count),
  figure('bytes', 'size', (r) => r.bytes, bytes),
  figure('added', 'added', (r) => r.added, count),
  figure('evicted', 'evicted', (r) => r.evicted, count),
  figure('age', 'age of these', (r) => r.evicted_age_s, (s) => (s == null ? none : time(s * 1000))),
  figure('expired', 'expired', (r) => r.expired, count),
  figure('purged', 'purged', (r) => r.purged, count),
]

interface Line extends CurvePoint {
  name: string
}
const names = ['¼', '½', 'as much', 'twice', 'four times']
const curve = computed<Line[]>(() => {
  const c = data.value?.curve
  if (!c) return []
  return [...c.points.map((p, i) => ({ ...p, name: names[i] ?? '' })), { ...c.now, name: 'this node itself' }]
})
const curveColumns: Column<Line>[] = [
  { key: 'name', title: 'memory', text: (l) => l.name },
  figure('bytes', 'size', (l) => l.memory_bytes, bytes),
  figure('hits', 'hit ratio', (l) => l.hit_ratio, percent),
  figure('saved', 'origin time saved', (l) => l.time_saved_ratio, percent),
]
const primeColumns: Column<Prime>[] = [
  { key: 'began', title: 'began', by: (p) => p.began, text: (p) => moment(p.began), look: 'moment' },
  { key: 'state', title: 'state', by: (p) => p.state, text: (p) => p.state },
  { key: 'progress', title: 'progress' },
  figure('filled', 'filled', (p) => p.filled, count),
  figure('fresh', 'fresh', (p) => p.fresh, count),
  figure('failed', 'failed', (p) => p.failed, count),
  figure('skipped', 'skipped', (p) => p.skipped, count),
  figure('pace', 'a second', (p) => p.pace_per_s, (n) => (n == null ? none : n.toFixed(1))),
]
</script>

<template>
  <PageHead title="Store" :updated="updated" ranged />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section id="size" class="panel">
    <h2>Size over the last {{ label }}</h2>
    <SizeChart v-if="data" :report="data.sizes" />
  </section>
  <section id="curve" class="panel">
    <h2>What another size would have saved</h2>
    <p v-if="data" class="caption">Since {{ moment(data.curve.since) }}, {{ data.curve.says }}. <span class="quiet">Small copies of the store, which see some of the keys, tell; memory alone counts.</span></p>
    <DataTable label="What another size would have saved" :columns="curveColumns" :rows="curve" :row-key="(l) => l.name" />
  </section>
  <section id="came" class="panel">
    <h2>What came and went</h2>
    <DataTable label="What came and went" :columns="columns" :rows="rows" :row-key="(r) => r.at + r.tier">
      <template #empty><template v-if="updated">Nothing was stored in this time.</template></template>
    </DataTable>
  </section>
  <section id="primes" class="panel">
    <h2>Primed</h2>
    <DataTable label="Primed" :columns="primeColumns" :rows="data?.primes ?? []" :row-key="(p) => p.id">
      <template #progress="{ row }"><progress :value="row.done" :max="Math.max(1, row.wanted)" :aria-label="`Prime ${row.id}`" /> {{ count(row.done) }} of {{ count(row.wanted) }}</template>
      <template #empty><template v-if="updated">Nothing was primed since the node's start. To fill the store before visitors come: <code>gerastic prime --sitemap URL</code></template></template>
    </DataTable>
  </section>
</template>

<style scoped>
.caption { padding: 0 8px; margin: 0 0 8px; font-size: 13px; }
progress { width: 160px; accent-color: var(--hit); vertical-align: middle; }
</style>
