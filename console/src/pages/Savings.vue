<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { computed, ref } from 'vue'
import { api, type SavingsRow } from '../api'
import { bytes, count, none, time } from '../format'
import { useLive } from '../live'
import { figure, type Column } from '../parts/columns'
import DataTable from '../parts/DataTable.vue'
import PageHead from '../parts/PageHead.vue'
import { useRange } from '../range'

// What the cache saved: origin time, bytes, and work that applications count.
const { since, label } = useRange()
const prices = ref('')
const asked = ref<string[]>([])
const { data, updated, problem } = useLive(() => api.savings(since.value, asked.value), [since, asked])
const kinds = computed(() => Object.keys(data.value?.total.work ?? {}).sort())

const amount = (n: number) => (Number.isInteger(n) ? count(n) : n.toFixed(1))
const work = (r: SavingsRow, which: 'spent' | 'saved') =>
  Object.entries(r.work ?? {}).sort().filter(([, a]) => a[which] > 0).map(([kind, a]) => `${amount(a[which])} ${kind}`).join(', ') || none
const per = (n: number | null | undefined) => (n === null || n === undefined ? none : n.toFixed(1))

const columns = computed<Column<SavingsRow>[]>(() => [
  { key: 'route', title: 'route or fragment', by: (r) => r.route, text: (r) => r.route || '(no route)' },
  figure('requests', 'requests', (r) => r.requests, count),
  figure('trips', 'round trips saved', (r) => r.round_trips_saved, count),
  figure('time', 'origin time saved', (r) => r.origin_time_saved_ms, time),
  figure('bytes', 'bytes saved', (r) => r.bytes_saved, bytes),
  { key: 'change', title: 'per change', by: (r) => r.per_change, text: (r) => per(r.per_change), look: 'number' },
  { key: 'spent', title: 'work spent', text: (r) => work(r, 'spent') },
  { key: 'saved', title: 'work saved', text: (r) => work(r, 'saved') },
  ...(asked.value.length > 0 ? [figure('money', 'money saved', (r: SavingsRow) => r.money_saved, (n: number | null | undefined) => (n ?? 0).toFixed(5))] : []),
])

function ask() {
  asked.value = prices.value.split(/[\s,]+/).filter((p) => p)
}
</script>

<template>
  <PageHead title="Savings" :updated="updated" ranged />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section id="savings" class="panel">
    <p v-for="kind in kinds" :key="kind" class="headline"><strong>{{ amount(data!.total.work![kind]!.spent) }}</strong> {{ kind }} spent, <strong>{{ amount(data!.total.work![kind]!.saved) }}</strong> saved</p>
    <p v-if="data?.total.money_saved != null" class="headline">At these prices that saved <strong>{{ data.total.money_saved.toFixed(5) }}</strong></p>
    <form class="filters" @submit.prevent="ask">
      <label for="prices">Price of each kind of work</label>
      <NInput v-model:value="prices" size="small" :input-props="{ id: 'prices' }" placeholder="queries=0.00001" />
      <NButton size="small" attr-type="submit">Count money</NButton>
      <span class="quiet">over the last {{ label }}; per change: requests for each answer that had to be made</span>
    </form>
    <DataTable label="Savings" :columns="columns" :rows="data?.rows ?? []" :row-key="(r) => r.route">
      <template #empty><template v-if="updated">Nobody asked for anything in this time. Applications count their work with <code>Gerastic-Work: queries=7</code></template></template>
    </DataTable>
  </section>
</template>

<style scoped>
.headline { margin: 0; padding: 4px 8px; font-variant-numeric: tabular-nums; }
.filters { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; padding: 8px; font-size: 13px; }
.filters label { color: var(--quiet); }
.filters .n-input { width: 220px; }
</style>
