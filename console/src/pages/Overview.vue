<script setup lang="ts">
import { computed } from 'vue'
import { api } from '../api'
import { bytes, clock, count, moment, percent, time, utc } from '../format'
import { useLive } from '../live'
import { markedPurges, says } from '../parts/charts'
import FiguresTable from '../parts/FiguresTable.vue'
import Headline from '../parts/Headline.vue'
import OutcomeChart from '../parts/OutcomeChart.vue'
import PageHead from '../parts/PageHead.vue'
import RatioChart from '../parts/RatioChart.vue'
import { useRange } from '../range'

const mostMarks = 20
const { since, label, seconds } = useRange()
const { data, updated, problem } = useLive(async () => {
  const length = seconds.value * 1000
  const ago = (ms: number) => new Date(Date.now() - ms).toISOString()
  const [report, past, nodes, purges, happened] = await Promise.all([
    api.ratio({ since: since.value, by: 'time' }),
    api.ratio({ since: ago(2 * length), until: ago(length), by: 'time' }),
    api.nodes(),
    api.purges(200),
    api.marks(since.value, 'mark,switch,release,revision,restart', mostMarks),
  ])
  // A comparison is fair only with a period that was counted from its beginning.
  const begun = past.rows.length > 0 && Date.parse(past.rows[0].at!) <= Date.parse(past.since) + length / 10
  return { report, before: begun ? past.total : null, node: nodes[0] ?? null, happened, purges: purges.filter((p) => new Date(p.at) >= new Date(report.since)) }
}, [since])

const report = computed(() => data.value?.report)
const before = computed(() => data.value?.before)
const node = computed(() => data.value?.node)
const purges = computed(() => data.value?.purges ?? [])
const happened = computed(() => data.value?.happened ?? [])
const total = computed(() => report.value?.total)
const rows = computed(() => report.value?.rows ?? [])

function points(now?: number | null, then?: number | null): string | undefined {
  if (now == null || then == null) return undefined
  const diff = (now - then) * 100
  return `${diff >= 0 ? '+' : '−'}${Math.abs(diff).toFixed(1)} points`
}
function share(now?: number, then?: number): string | undefined {
  if (!now || !then) return undefined
  const diff = (now / then - 1) * 100
  return `${diff >= 0 ? '+' : '−'}${Math.abs(diff).toFixed(0)} %`
}
const memory = computed(() => (node.value ? node.value.memory_used_bytes / node.value.memory_limit_bytes : 0))
</script>

<template>
  <PageHead title="Overview" :updated="updated" ranged />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <div v-if="node?.degraded" class="problem" role="alert">This node is degraded: {{ node.degraded }}</div>

  <template v-if="report && total">
    <section class="headlines" aria-label="Headline figures">
      <Headline id="hit-ratio" label="Hit ratio" :value="percent(total.hit_ratio)" :over="label" :change="points(total.hit_ratio, before?.hit_ratio)" :course="rows.map((r) => r.hit_ratio ?? null)" title="(hit + stale) / (requests − bypass): answered without waiting for an origin" />
      <Headline id="requests" label="Requests" :value="count(total.requests)" :over="label" :change="share(total.requests, before?.requests)" :course="rows.map((r) => r.requests)" title="Requests that visitors made and that were answered" />
      <Headline label="Origin time saved" :value="time(total.origin_time_saved_ms)" :over="label" :change="share(total.origin_time_saved_ms, before?.origin_time_saved_ms)" :course="rows.map((r) => r.origin_time_saved_ms)" title="For each answer that needed no origin: what its entry's fill had cost, summed" />
      <Headline label="Round trips saved" :value="count(total.round_trips_saved)" :over="label" :change="share(total.round_trips_saved, before?.round_trips_saved)" :course="rows.map((r) => r.round_trips_saved)" title="Requests − origin requests" />
      <div v-if="node" class="memory" title="Everything counted: bodies, headers, keys, indexes and overhead">
        <div class="quiet label">Memory used, now</div>
        <div class="value">{{ bytes(node.memory_used_bytes) }}</div>
        <div class="bar" role="meter" aria-label="Memory used" aria-valuemin="0" :aria-valuemax="node.memory_limit_bytes" :aria-valuenow="node.memory_used_bytes"><span :style="{ width: `${(memory * 100).toFixed(2)}%` }" /></div>
        <div class="quiet small">{{ percent(memory) }} of {{ bytes(node.memory_limit_bytes) }}, {{ count(node.entries) }}&nbsp;entries</div>
      </div>
    </section>

    <p v-if="total.requests === 0" class="panel">Nobody has asked for anything in this time. Try <code>curl -si {{ node?.edge }}/</code></p>
    <template v-else>
      <p v-if="report.made_up_until" class="quiet note">Figures before {{ clock(report.made_up_until) }} are made up, so that a fresh demo has something to show.</p>
      <section class="panel">
        <h2>Requests by outcome <span v-if="purges.length" class="quiet">dotted: {{ purges.length > markedPurges ? `the ${markedPurges} largest of ${purges.length}${purges.length === 200 ? '+' : ''} purges` : 'purges' }}</span><span v-if="happened.length" class="quiet">dashed: what is listed below</span></h2>
        <OutcomeChart :report="report" :purges="purges" :happened="happened" />
      </section>
      <section class="panel">
        <h2>Ratios</h2>
        <RatioChart :report="report" :purges="purges" :happened="happened" />
      </section>
      <section v-if="happened.length" class="panel" aria-label="What happened">
        <h2>What happened <span class="quiet">beside purges{{ happened.length === mostMarks ? `; the newest ${mostMarks}` : '' }}</span></h2>
        <ol class="happened">
          <li v-for="(m, i) in happened" :key="i"><time class="quiet" :datetime="m.at" :title="utc(m.at)">{{ moment(m.at) }}</time> {{ says(m) }} <span class="quiet">by {{ m.by }}</span></li>
        </ol>
      </section>
      <FiguresTable :report="report" />
    </template>
  </template>
</template>

<style scoped>
.headlines { display: grid; grid-template-columns: repeat(5, minmax(0, 1fr)); gap: 8px; margin-bottom: 8px; }
.memory { background: var(--panel); border: 1px solid var(--line); padding: 12px 16px; }
.label { font-size: 13px; }
.value { font-size: 28px; line-height: 1.2; font-variant-numeric: tabular-nums; white-space: nowrap; }
.small { font-size: 12px; }
.bar { height: 4px; background: var(--line); margin: 2px 0 4px; }
.bar span { display: block; height: 100%; background: var(--ink); min-width: 1px; }
.panel { margin-bottom: 8px; padding: 12px 16px; }
.note { margin: 0 0 8px; font-size: 13px; }
.happened { list-style: none; margin: 0; padding: 0; font-size: 13px; }
.happened time { display: inline-block; min-width: 128px; font-variant-numeric: tabular-nums; }
.happened li { overflow-wrap: anywhere; }
h2 .quiet { font-weight: 400; font-size: 13px; margin-left: 8px; }
@media (max-width: 1100px) {
  .headlines { grid-template-columns: repeat(auto-fill, minmax(200px, 1fr)); }
}
</style>
