<script setup lang="ts">
import { computed } from 'vue'
import { api, type Finding } from '../api'
import { moment, none, utc } from '../format'
import { useLive } from '../live'
import type { Column } from '../parts/columns'
import DataTable from '../parts/DataTable.vue'
import PageHead from '../parts/PageHead.vue'
import { useRange } from '../range'

const { since, label } = useRange()
const { data, updated, problem } = useLive(() => api.findings(since.value), [since])
const findings = computed(() => data.value ?? [])

const meanings: Record<string, string> = {
  key: 'the key leaves out what matters',
  changed: 'the content changed and nothing was purged',
  'unkeyed-cookie': 'a cookie that the key leaves out comes with many requests',
  'unkeyed-field': 'a field that the key leaves out comes with many requests',
  'fragment-clash': 'a fragment’s key leaves something out: a fill made something else than what was there',
  'unread-write': 'a body was too long to be read, and more was purged than it named',
}
const meaning = (f: Finding) => meanings[f.kind] ?? f.kind

const columns: Column<Finding>[] = [
  { key: 'when', title: 'when', by: (f) => f.at, text: (f) => moment(f.at), tip: (f) => utc(f.at), look: 'moment' },
  { key: 'route', title: 'route', by: (f) => f.route, text: (f) => f.route },
  { key: 'meaning', title: 'what it means', by: meaning, text: meaning },
  { key: 'separator', title: 'by', by: (f) => f.separator, text: (f) => f.separator || none, look: 'mono' },
  { key: 'stored', title: 'stored', text: (f) => (f.samples?.[0] ?? f.stored).slice(0, 8) || none, tip: (f) => f.samples?.[0] ?? f.stored, look: 'mono' },
  { key: 'origin', title: 'origin', text: (f) => (f.samples?.[1] ?? f.origin).slice(0, 8) || none, tip: (f) => f.samples?.[1] ?? f.origin, look: 'mono' },
  { key: 'asked', title: 'asked', by: (f) => f.url, text: (f) => f.url || f.key, tip: (f) => f.key, look: 'mono' },
]
</script>

<template>
  <PageHead title="Findings" :updated="updated" ranged />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section id="findings" class="panel">
    <p class="quiet caption">Hits that were also asked of the origin and whose answer differed, and what keys leave out that comes with many requests; over the last {{ label }}.</p>
    <DataTable label="Findings" :columns="columns" :rows="findings" :row-key="(f) => f.at + f.key + f.separator">
      <template #empty><template v-if="updated">Nothing was found. Hits are compared on routes whose life the policy states, and where it says <code>compare: 0.1%</code></template></template>
    </DataTable>
  </section>
</template>
