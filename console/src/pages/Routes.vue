<script setup lang="ts">
import { NSwitch, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, type Route } from '../api'
import { outcomes } from '../colours'
import { count, percent, time } from '../format'
import { useLive } from '../live'
import PageHead from '../parts/PageHead.vue'
import { useRange } from '../range'
import { useSession } from '../session'

const { since, label } = useRange()
const session = useSession()
const message = useMessage()
const place = useRoute()
const routes = ref<Route[]>([])
const marked = computed(() => String(place.query.route ?? ''))

const { updated, problem, renew } = useLive(async () => {
  routes.value = await api.routes(since.value)
}, [since])

async function flip(r: Route, on: boolean) {
  try {
    await api.switchRoute(r.name, on)
    message.success(on ? `${r.name} is cached again; what was stored is still there` : `${r.name} goes through to its origin; what is stored stays`)
  } catch (e) {
    message.error(e instanceof Error ? e.message : String(e), { duration: 8000 })
  }
  await renew()
}

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
    <table class="table">
      <caption class="quiet">In the policy's order; figures over the last {{ label }}. Median and 95th percentile of latency.</caption>
      <thead>
        <tr>
          <th scope="col">route</th>
          <th scope="col" class="number">requests</th>
          <th scope="col">how they ended</th>
          <th scope="col" class="number">hit ratio</th>
          <th scope="col" class="number">hit p50 / p95</th>
          <th scope="col" class="number">origin p50 / p95</th>
          <th scope="col" class="number">time saved</th>
          <th scope="col" class="number">entries</th>
          <th scope="col">caching</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in routes" :key="r.name" :class="{ marked: r.name === marked }">
          <td>
            {{ r.name }} <span class="mono quiet path">{{ r.path }}</span>
          </td>
          <td class="number">{{ count(r.figures.requests) }}</td>
          <td>
            <div class="bar" role="img" :aria-label="parts(r).map((p) => `${p.o} ${p.n}`).join(', ') || 'no requests'">
              <span v-for="p in parts(r)" :key="p.o" :style="{ width: `${p.share}%`, background: `var(--${p.o})` }" :title="`${p.o}: ${count(p.n)}, ${p.share.toFixed(1)} %`" />
            </div>
          </td>
          <td class="number">{{ percent(r.figures.hit_ratio) }}</td>
          <td class="number">{{ time(r.figures.hit_latency_ms.p50) }} / {{ time(r.figures.hit_latency_ms.p95) }}</td>
          <td class="number">{{ time(r.figures.origin_latency_ms.p50) }} / {{ time(r.figures.origin_latency_ms.p95) }}</td>
          <td class="number">{{ time(r.figures.origin_time_saved_ms) }}</td>
          <td class="number">{{ count(r.entries) }}</td>
          <td class="switch">
            <NSwitch :value="r.enabled" :disabled="!session.may('admin') || r.switch === 'policy-off' || r.switch === 'all-off'" :aria-label="`Cache ${r.name}`" @update:value="(on: boolean) => flip(r, on)" />
            <span class="quiet">{{ why[r.switch] }}</span>
          </td>
        </tr>
        <tr v-if="updated && routes.length === 0">
          <td colspan="9">The policy has no routes yet. Add one and apply it: <code>gerastic policy apply policy.yaml</code></td>
        </tr>
      </tbody>
    </table>
    <div v-if="shown.length" class="legend" aria-hidden="true">
      <span v-for="o in shown" :key="o"><i class="swatch" :style="{ background: `var(--${o})` }" />{{ o }}</span>
    </div>
  </section>
</template>

<style scoped>
caption { text-align: left; font-size: 13px; padding: 0 8px 8px; }
.panel { padding: 12px 8px; }
.path { font-size: 12px; margin-left: 6px; white-space: nowrap; }
.table { font-size: 13px; }
.bar { display: flex; width: 104px; height: 12px; background: var(--line); gap: 1px; }
.bar span { display: block; height: 100%; }
.switch { white-space: nowrap; }
.switch .quiet { font-size: 13px; margin-left: 8px; }
.marked td { background: var(--ground); }
.legend { display: flex; flex-wrap: wrap; gap: 16px; padding: 12px 8px 0; font-size: 13px; }
</style>
