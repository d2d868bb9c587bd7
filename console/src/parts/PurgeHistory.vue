<script setup lang="ts">
import { ref } from 'vue'
import type { Purge } from '../api'
import { bytes, count, moment, none, plural, time, utc } from '../format'
import { byCount, named } from '../purging'
import { figure, type Column } from './columns'
import DataTable from './DataTable.vue'

// The ledger's newest purges, one of them opened.
defineProps<{ purges: Purge[]; asked: boolean }>()
const opened = ref(0)

function short(p: Purge): string {
  const text = named(p)
  return text.length > 160 ? `${text.slice(0, 160)}…` : text
}

const columns: Column<Purge>[] = [
  figure('sequence', 'purge', (p) => p.sequence, String),
  { key: 'when', title: 'when', by: (p) => p.at, text: (p) => moment(p.at), tip: (p) => utc(p.at), look: 'moment' },
  { key: 'actor', title: 'by', by: (p) => p.actor, text: (p) => p.actor },
  { key: 'named', title: 'what', by: named, text: short, look: 'mono' },
  { key: 'mode', title: 'mode', by: (p) => p.mode, text: (p) => p.mode },
  figure('entries', 'entries', (p) => p.matched.entries, count),
  { key: 'force', title: 'in force after', by: (p) => p.nodes[0]?.took_ms, text: (p) => (p.nodes.length ? time(p.nodes[0].took_ms) : none), tip: (p) => p.nodes.map((n) => n.node).join(', '), look: 'number' },
  { key: 'reason', title: 'why', by: (p) => p.reason, text: (p) => p.reason ?? '' },
]
</script>

<template>
  <DataTable label="History" :columns="columns" :rows="purges" :row-key="(p) => p.sequence" :opened="[opened]">
    <template #sequence="{ row }">
      <button type="button" class="link" :aria-expanded="opened === row.sequence" :aria-label="`Details of purge ${row.sequence}`" @click="opened = opened === row.sequence ? 0 : row.sequence">{{ row.sequence }}</button>
    </template>
    <template #detail="{ row }">
      <dl>
        <dt>named</dt>
        <dd class="mono">{{ named(row) }}</dd>
        <dt>went</dt>
        <dd>{{ plural(row.matched.entries, 'entry', 'entries') }}, {{ bytes(row.matched.bytes) }}<template v-if="row.matched.entries">: {{ byCount(row.matched.routes).map(([r, n]) => `${r} ${count(n)}`).join(', ') }}</template></dd>
        <template v-for="n in row.nodes" :key="n.node">
          <dt>on {{ n.node }}</dt>
          <dd>{{ n.applied ? `in force after ${time(n.took_ms)}, counted and freed after ${time(n.sweep_ms)} more` : 'not applied yet' }}</dd>
        </template>
        <dt>ordered</dt>
        <dd>by {{ row.actor }}, {{ utc(row.at) }}{{ row.reason ? `: ${row.reason}` : '' }}</dd>
      </dl>
    </template>
    <template #empty><template v-if="asked">Nothing has been purged yet. From a script: <code>gerastic purge --tag TAG --reason WHY</code></template></template>
  </DataTable>
</template>

<style scoped>
dl { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 4px 16px; margin: 4px 0; }
dt { color: var(--quiet); }
dd { margin: 0; max-height: 120px; overflow-y: auto; }
</style>
