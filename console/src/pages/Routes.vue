<script setup lang="ts">
import { NButton, NSwitch, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { useAction } from '../action'
import { api, type Route, type RouteChange } from '../api'
import { outcomes } from '../colours'
import { count, percent, time } from '../format'
import { useLive } from '../live'
import { figure, type Column } from '../parts/columns'
import DataTable from '../parts/DataTable.vue'
import PageHead from '../parts/PageHead.vue'
import RouteForm from '../parts/RouteForm.vue'
import { useRange } from '../range'
import { useSession } from '../session'

const { since, label } = useRange()
const session = useSession()
const message = useMessage()
const place = useRoute()
const marked = computed(() => String(place.query.route ?? ''))
const { data, updated, problem, renew } = useLive(() => api.routes(since.value), [since])
const routes = computed(() => data.value ?? [])
const { act } = useAction((words) => message.error(words, { duration: 8000 }))

async function flip(r: Route, on: boolean) {
  await act(async () => {
    await api.switchRoute(r.name, on)
    message.success(on ? `${r.name} is cached again; what was stored is still there` : `${r.name} goes through to its origin; what is stored stays`)
  })
  await renew()
}

const form = ref(false)
const changing = ref<Route>()
function change(r?: Route) {
  changing.value = r
  form.value = true
}
async function changed(c: RouteChange) {
  message.success(`Revision ${c.revision} is in force`)
  await renew()
}

const columns: Column<Route>[] = [
  { key: 'route', title: 'route', by: (r) => r.name },
  figure('requests', 'requests', (r) => r.figures.requests, count),
  { key: 'ended', title: 'how they ended' },
  figure('ratio', 'hit ratio', (r) => r.figures.hit_ratio, percent),
  { key: 'hit', title: 'hit p50 / p95', by: (r) => r.figures.hit_latency_ms.p50, text: (r) => `${time(r.figures.hit_latency_ms.p50)} / ${time(r.figures.hit_latency_ms.p95)}`, look: 'number' },
  { key: 'origin', title: 'origin p50 / p95', by: (r) => r.figures.origin_latency_ms.p50, text: (r) => `${time(r.figures.origin_latency_ms.p50)} / ${time(r.figures.origin_latency_ms.p95)}`, look: 'number' },
  figure('saved', 'time saved', (r) => r.figures.origin_time_saved_ms, time),
  figure('entries', 'entries', (r) => r.entries, count),
  { key: 'caching', title: 'caching' },
  { key: 'change', title: '' },
]

// What the switch shows: why a route is off, when it is not by its own switch.
const why: Record<string, string> = { 'policy-off': 'off in the policy', 'all-off': 'all are off', off: 'off', on: 'on' }

function parts(r: Route) {
  const all = r.figures.requests
  return all === 0 ? [] : outcomes.map((o) => ({ o, n: r.figures.outcomes[o] ?? 0, share: ((r.figures.outcomes[o] ?? 0) / all) * 100 })).filter((p) => p.n > 0)
}
const shown = computed(() => outcomes.filter((o) => routes.value.some((r) => (r.figures.outcomes[o] ?? 0) > 0)))
</script>

<template>
  <PageHead title="Routes" :updated="updated" ranged />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section class="panel scroll">
    <div class="top">
      <p class="quiet caption">In the policy's order; figures over the last {{ label }}. Median and 95th percentile of latency.</p>
      <NButton v-if="session.may('admin')" id="add-route" size="small" @click="change()">Add a route</NButton>
    </div>
    <DataTable label="Routes" :columns="columns" :rows="routes" :row-key="(r) => r.name" :row-class="(r) => (r.name === marked ? 'marked' : '')">
      <template #route="{ row }">{{ row.name }} <span class="mono quiet path">{{ row.path }}</span></template>
      <template #ended="{ row }">
        <div class="bar" role="img" :aria-label="parts(row).map((p) => `${p.o} ${p.n}`).join(', ') || 'no requests'">
          <span v-for="p in parts(row)" :key="p.o" :style="{ width: `${p.share}%`, background: `var(--${p.o})` }" :title="`${p.o}: ${count(p.n)}, ${p.share.toFixed(1)} %`" />
        </div>
      </template>
      <template #caching="{ row }">
        <div class="switch">
          <NSwitch :value="row.enabled" :disabled="!session.may('admin') || row.switch === 'policy-off' || row.switch === 'all-off'" :aria-label="`Cache ${row.name}`" @update:value="(on: boolean) => flip(row, on)" />
          <span class="quiet">{{ why[row.switch] }}</span>
        </div>
      </template>
      <template #change="{ row }">
        <NButton v-if="session.may('admin')" size="tiny" quaternary :aria-label="`Change ${row.name}`" @click="change(row)">Change</NButton>
      </template>
      <template #empty><template v-if="updated">The policy has no routes yet. Add one above, or apply a file: <code>gerastic policy apply policy.yaml</code></template></template>
    </DataTable>
    <div v-if="shown.length" class="legend" aria-hidden="true">
      <span v-for="o in shown" :key="o"><i class="swatch" :style="{ background: `var(--${o})` }" />{{ o }}</span>
    </div>
    <RouteForm v-model:open="form" :routes="routes" :of="changing" @done="changed" />
  </section>
</template>

<style scoped>
.top { display: flex; justify-content: space-between; align-items: center; gap: 16px; }
.path { font-size: 12px; white-space: nowrap; }
.bar { display: flex; width: 104px; height: 12px; background: var(--line); gap: 1px; }
.bar span { display: block; height: 100%; }
.switch { white-space: nowrap; }
.switch .quiet { font-size: 13px; margin-left: 8px; }
/* The rows are the table's, not this page's. */
:deep(.marked td) { background: var(--ground); }
.legend { display: flex; flex-wrap: wrap; gap: 16px; padding: 12px 8px 0; font-size: 13px; }
</style>
