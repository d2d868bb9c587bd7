<script setup lang="ts">
import { ref } from 'vue'
import { api, type Finding } from '../api'
import { moment, none, utc } from '../format'
import { useLive } from '../live'
import PageHead from '../parts/PageHead.vue'
import { useRange } from '../range'

const { since, label } = useRange()
const findings = ref<Finding[]>([])
const { updated, problem } = useLive(async () => {
  findings.value = await api.findings(since.value)
}, [since])

const meanings: Record<string, string> = {
  key: 'the key leaves out what matters',
  changed: 'the content changed and nothing was purged',
  'unkeyed-cookie': 'a cookie that the key leaves out comes with many requests',
  'unkeyed-field': 'a field that the key leaves out comes with many requests',
}
const meaning = (f: Finding) => meanings[f.kind] ?? f.kind
</script>

<template>
  <PageHead title="Findings" :updated="updated" ranged />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section class="panel scroll">
    <table class="table" id="findings">
      <caption class="quiet">Hits that were also asked of the origin and whose answer differed, and what keys leave out that comes with many requests; over the last {{ label }}.</caption>
      <thead>
        <tr>
          <th scope="col">when</th>
          <th scope="col">route</th>
          <th scope="col">what it means</th>
          <th scope="col">by</th>
          <th scope="col">stored</th>
          <th scope="col">origin</th>
          <th scope="col">asked</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="f in findings" :key="f.at + f.key + f.separator">
          <td class="when" :title="utc(f.at)">{{ moment(f.at) }}</td>
          <td>{{ f.route }}</td>
          <td>{{ meaning(f) }}</td>
          <td class="mono">{{ f.separator || none }}</td>
          <td class="mono when" :title="f.stored">{{ f.stored.slice(0, 8) || none }}</td>
          <td class="mono when" :title="f.origin">{{ f.origin.slice(0, 8) || none }}</td>
          <td class="mono" :title="f.key">{{ f.url }}</td>
        </tr>
        <tr v-if="updated && findings.length === 0">
          <td colspan="7">Nothing was found. Hits are compared on routes whose life the policy states, and where it says <code>compare: 0.1%</code></td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
caption { text-align: left; font-size: 13px; padding: 0 8px 8px; }
.panel { padding: 12px 8px; }
.table { font-size: 13px; }
.when { white-space: nowrap; font-variant-numeric: tabular-nums; }
.mono { font-size: 12px; }
</style>
