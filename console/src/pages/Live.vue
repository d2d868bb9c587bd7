<script setup lang="ts">
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { RequestEvent } from '../api'
import { outcomes } from '../colours'
import { clock, none, time, utc } from '../format'
import PageHead from '../parts/PageHead.vue'

// Requests as they are answered. The newest stands on top; the filter is in the URL.
const kept = 200
const place = useRoute()
const router = useRouter()
const events = ref<(RequestEvent & { id: number })[]>([])
const paused = ref(false)
const problem = ref('')
const missed = ref(0)
const updated = ref<Date | null>(null)
let source: EventSource | undefined
let count = 0

const filter = (name: string) =>
  computed({
    get: () => String(place.query[name] ?? ''),
    set: (value: string) => void router.replace({ query: { ...place.query, [name]: value || undefined } }),
  })
const outcome = filter('outcome')
const route = filter('route')
const path = filter('path')

function follow() {
  source?.close()
  if (paused.value) return
  const wanted = Object.entries({ outcome: outcome.value, route: route.value, path: path.value }).filter((e) => e[1])
  source = new EventSource('/v1/events?' + new URLSearchParams(wanted).toString())
  source.onopen = () => (problem.value = '')
  source.onerror = () => (problem.value = 'The stream broke off; it is tried again.')
  const take = (m: MessageEvent<string>) => {
    const e = JSON.parse(m.data) as RequestEvent
    updated.value = new Date()
    if (!e.method) return
    missed.value += e.missed ?? 0
    events.value = [{ ...e, id: ++count }, ...events.value].slice(0, kept)
  }
  source.onmessage = take
  source.addEventListener('request', take)
}
watch([paused, outcome, route, path], follow, { immediate: true })
onUnmounted(() => source?.close())
</script>

<template>
  <PageHead title="Live" :updated="updated" />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section class="panel">
    <form class="filters" @submit.prevent>
      <label for="outcome">Outcome</label>
      <select id="outcome" v-model="outcome">
        <option value="">all</option>
        <option v-for="o in outcomes" :key="o" :value="o">{{ o }}</option>
      </select>
      <label for="route">Route</label>
      <input id="route" v-model.lazy="route" placeholder="all" />
      <label for="path">Path begins with</label>
      <input id="path" v-model.lazy="path" placeholder="/" />
      <button type="button" :aria-pressed="paused" @click="paused = !paused">{{ paused ? 'Go on' : 'Pause' }}</button>
      <span class="quiet">the last {{ kept }}, newest first{{ missed ? `; ${missed} missed` : '' }}</span>
    </form>
    <div class="scroll">
      <table class="table" id="live">
        <thead>
          <tr>
            <th scope="col">time</th>
            <th scope="col">outcome</th>
            <th scope="col">cause</th>
            <th scope="col" class="number">status</th>
            <th scope="col" class="number">took</th>
            <th scope="col">route</th>
            <th scope="col">request</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="e in events" :key="e.id">
            <td class="when" :title="utc(e.at)">{{ clock(e.at) }}</td>
            <td class="when"><i class="swatch" :style="{ background: `var(--${e.outcome})` }" />{{ e.outcome }}</td>
            <td class="when">{{ e.cause || none }}</td>
            <td class="number">{{ e.status || none }}</td>
            <td class="number">{{ time(e.took_ms) }}</td>
            <td class="when">{{ e.route || none }}</td>
            <td class="mono url" :title="e.url">{{ e.method }} {{ e.url }}</td>
          </tr>
          <tr v-if="events.length === 0">
            <td colspan="7">{{ paused ? 'Paused.' : 'Waiting for visitors.' }} In a terminal: <code>gerastic watch --outcome miss</code></td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
.filters { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; margin-bottom: 12px; font-size: 13px; }
.filters label { color: var(--quiet); }
select, input, button { font: inherit; height: 28px; padding: 0 8px; border: 1px solid var(--line); background: var(--ground); color: var(--ink); }
button { cursor: pointer; }
input { width: 140px; }
input::placeholder { color: var(--quiet); opacity: 1; }
.table { font-size: 13px; table-layout: fixed; }
.table th:nth-child(1) { width: 76px; }
.table th:nth-child(2) { width: 112px; }
.table th:nth-child(3) { width: 168px; }
.table th:nth-child(4) { width: 62px; }
.table th:nth-child(5) { width: 78px; }
.table th:nth-child(6) { width: 108px; }
.when { white-space: nowrap; overflow: hidden; text-overflow: ellipsis; font-variant-numeric: tabular-nums; }
.url { white-space: nowrap; overflow: hidden; text-overflow: ellipsis; font-size: 12px; }
</style>
