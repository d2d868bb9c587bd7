<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed, onUnmounted, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { followEvents, type FragmentEvent, type RequestEvent } from '../api'
import { outcomes } from '../colours'
import { bytes, clock, none, time, utc } from '../format'
import { figure, type Column } from '../parts/columns'
import DataTable from '../parts/DataTable.vue'
import PageHead from '../parts/PageHead.vue'

// Requests as they are answered, or fragments as they are found and made. The newest stands on top; the filter is in
// the URL.
type Row = { id: number; at: string; outcome: string; took_ms: number; request?: RequestEvent; fragment?: FragmentEvent }
const kept = 200
const drawEvery = 250 // ms: many requests a second are drawn together
const place = useRoute()
const router = useRouter()
const events = shallowRef<Row[]>([])
const paused = ref(false)
const problem = ref('')
const missed = ref(0)
const updated = ref<Date | null>(null)
let leave: () => void = () => undefined
let last = 0
let came: Row[] = []
let heard: Date | null = null

const filter = (name: string) =>
  computed({
    get: () => String(place.query[name] ?? ''),
    set: (value: string) => void router.replace({ query: { ...place.query, [name]: value || undefined } }),
  })
const of = filter('of')
const fragments = computed(() => of.value === 'fragments')
const outcome = filter('outcome')
const route = filter('route')
const path = filter('path')
const choices = computed(() => [{ value: '', label: 'all' }, ...(fragments.value ? ['found', 'filled', 'stored', 'waited', 'dropped'] : outcomes).map((o) => ({ value: o as string, label: o as string }))])
// What becomes of a fragment has the colour of what is like it of requests.
const colour: Record<string, string> = { found: 'hit', filled: 'miss', stored: 'revalidated', waited: 'joined', dropped: 'error' }

function choose(what: string) {
  events.value = came = []
  void router.replace({ query: { ...place.query, of: what || undefined, outcome: undefined } })
}

function follow() {
  leave()
  leave = () => undefined
  if (paused.value) return
  leave = followEvents(
    { of: of.value, outcome: outcome.value, route: route.value, path: path.value },
    {
      open: () => (problem.value = ''),
      broken: () => (problem.value = 'The stream broke off; it is tried again.'),
      event: (e) => {
        heard = new Date()
        missed.value += e.missed ?? 0
        if ('method' in e && e.method) came = [{ ...e, id: ++last, request: e }, ...came].slice(0, kept)
        else if ('namespace' in e && e.namespace) came = [{ ...e, id: ++last, fragment: e }, ...came].slice(0, kept)
      },
    },
  )
}
watch([paused, of, outcome, route, path], follow, { immediate: true })

function draw() {
  updated.value = heard
  if (came.length === 0) return
  events.value = [...came, ...events.value].slice(0, kept)
  came = []
}
const timer = window.setInterval(draw, drawEvery)
onUnmounted(() => {
  window.clearInterval(timer)
  leave()
})

const begin: Column<Row>[] = [
  { key: 'time', title: 'time', text: (e) => clock(e.at), tip: (e) => utc(e.at), look: 'moment', width: 80 },
  { key: 'outcome', title: 'outcome', width: 112 },
]
const took: Column<Row> = { ...figure('took', 'took', (e: Row) => e.took_ms, time), width: 84 }
const columns = computed<Column<Row>[]>(() =>
  fragments.value
    ? [
        ...begin,
        took,
        { ...figure('bytes', 'bytes', (e: Row) => e.fragment?.bytes ?? 0, bytes), width: 84 },
        { key: 'key', title: 'fragment', text: (e) => `${e.fragment?.namespace}/${e.fragment?.key}`, tip: (e) => e.fragment?.key ?? '', look: 'line' },
      ]
    : [
        ...begin,
        { key: 'cause', title: 'cause', text: (e) => e.request?.cause || none, look: 'line', width: 176 },
        { key: 'status', title: 'status', text: (e) => e.request?.status || none, look: 'number', width: 64 },
        took,
        { key: 'route', title: 'route', text: (e) => e.request?.route || none, look: 'line', width: 112 },
        { key: 'request', title: 'request', text: (e) => `${e.request?.method} ${e.request?.url}`, tip: (e) => e.request?.url ?? '', look: 'line' },
      ],
)
</script>

<template>
  <PageHead title="Live" :updated="updated" />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section id="live" class="panel">
    <form class="filters" @submit.prevent>
      <span class="quiet">Of</span>
      <NSelect :value="of" :options="[{ value: '', label: 'requests' }, { value: 'fragments', label: 'fragments' }]" size="small" class="outcome" aria-label="Of" @update:value="choose" />
      <span class="quiet">Outcome</span>
      <NSelect v-model:value="outcome" :options="choices" size="small" class="outcome" aria-label="Outcome" />
      <label for="route">{{ fragments ? 'Name' : 'Route' }}</label>
      <NInput :value="route" size="small" :input-props="{ id: 'route' }" placeholder="all" @change="(v: string) => (route = v)" />
      <label for="path">{{ fragments ? 'Key' : 'Path' }} begins with</label>
      <NInput :value="path" size="small" :input-props="{ id: 'path' }" :placeholder="fragments ? 'row(' : '/'" @change="(v: string) => (path = v)" />
      <NButton size="small" :aria-pressed="paused" @click="paused = !paused">{{ paused ? 'Go on' : 'Pause' }}</NButton>
      <span class="quiet">the last {{ kept }}, newest first{{ missed ? `; ${missed} missed` : '' }}</span>
    </form>
    <DataTable :label="fragments ? 'Fragments' : 'Requests'" :columns="columns" :rows="events" :row-key="(e) => e.id" :tall="620">
      <template #outcome="{ row }"><i class="swatch" :style="{ background: `var(--${colour[row.outcome] ?? row.outcome})` }" />{{ row.outcome }}</template>
      <template #empty>{{ paused ? 'Paused.' : 'Waiting for visitors.' }} In a terminal: <code>{{ fragments ? 'gerastic watch --of fragments' : 'gerastic watch --outcome miss' }}</code></template>
    </DataTable>
  </section>
</template>

<style scoped>
.filters { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; padding: 0 8px 8px; font-size: 13px; }
.filters label { color: var(--quiet); }
.filters .outcome { width: 128px; }
.filters .n-input { width: 140px; }
</style>
