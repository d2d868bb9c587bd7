<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'
import { useAction } from '../action'
import { api, type ChangeRun, type ChangesStatus, type ChangeTrial } from '../api'
import { ago, bytes, count, moment, none, plural, time, utc } from '../format'
import { useLive } from '../live'
import { figure, type Column } from '../parts/columns'
import DataTable from '../parts/DataTable.vue'
import PageHead from '../parts/PageHead.vue'
import { useSession } from '../session'

type Source = ChangesStatus['sources'][number]

const session = useSession()
const message = useMessage()
const running = ref('')
const { data, updated, problem, renew } = useLive(async () => {
  const [status, runs] = await Promise.all([api.changes(), api.runs(20)])
  return { status, runs }
})
const status = computed(() => data.value?.status)
const sources = computed(() => status.value?.sources ?? [])
const runs = computed(() => data.value?.runs ?? [])

const asking = useAction((words) => message.error(words, { duration: 8000 }))
async function runNow(source: string) {
  running.value = source
  await asking.act(async () => {
    const r = await api.runNow(source)
    message.success(`Run ${r.run} of ${source}: ${plural(r.changes, 'change', 'changes')}, ${plural(r.entries, 'entry', 'entries')} gone, in ${time(r.took_ms)}`)
  })
  running.value = ''
  await renew()
}

const sourceColumns: Column<Source>[] = [
  { key: 'source', title: 'source', by: (s) => s.name, text: (s) => s.name },
  { key: 'kind', title: 'kind', by: (s) => s.kind, text: (s) => s.kind },
  { key: 'state', title: 'state', by: (s) => Number(s.well) },
  { key: 'until', title: 'purged until', by: (s) => s.checked, text: (s) => (s.checked ? ago(s.checked) : none), tip: (s) => (s.checked ? utc(s.checked) : ''), look: 'moment' },
  { key: 'promise', title: 'promise', text: (s) => (s.kind === 'webhook' ? none : time(s.within_s * 1000)), look: 'number' },
  figure('changes', 'changes, 1 d', (s) => s.changes, count),
  { key: 'delay', title: 'delay p50 / p99', by: (s) => s.delay_p50_ms, text: (s) => `${time(s.delay_p50_ms)} / ${time(s.delay_p99_ms)}`, look: 'number' },
  { key: 'held', title: 'log held back', by: (s) => s.retained_bytes, text: (s) => (s.retained_bytes === undefined ? none : `${bytes(s.retained_bytes)} of ${bytes(s.keep_at_most_bytes ?? 0)}`), look: 'number' },
  {
    key: 'find',
    title: 'last find',
    by: (s) => s.last_run?.began,
    text: (s) => (s.last_run ? `${moment(s.last_run.began)}, ${plural(s.last_run.changes, 'change', 'changes')}` : none),
    tip: (s) => (s.last_run ? utc(s.last_run.began) : ''),
    look: 'moment',
  },
  { key: 'run', title: '' },
]
const explained = computed(() => sources.value.filter((s) => s.why || s.note).map((s) => s.name))

const purges = (r: ChangeRun) => (r.purges.length === 0 ? none : r.purges.length === 1 ? String(r.purges[0]) : `${r.purges[0]} … ${r.purges[r.purges.length - 1]}`)
const runColumns: Column<ChangeRun>[] = [
  figure('run', 'run', (r) => r.run, String),
  { key: 'when', title: 'when', by: (r) => r.began, text: (r) => moment(r.began), tip: (r) => utc(r.began), look: 'moment' },
  { key: 'source', title: 'source', by: (r) => r.source, text: (r) => r.source },
  { key: 'trigger', title: 'because of', by: (r) => r.trigger, text: (r) => r.trigger },
  figure('took', 'took', (r) => r.took_ms, time),
  figure('changes', 'changes', (r) => r.changes, count),
  figure('skipped', 'not counted', (r) => r.skipped, count),
  figure('tags', 'tags', (r) => r.tags, count),
  figure('entries', 'entries gone', (r) => r.entries, count),
  { key: 'purges', title: 'purges', by: (r) => r.purges[0], text: purges, look: 'moment' },
  { key: 'node', title: 'node', by: (r) => r.node, text: (r) => r.node },
]
const failed = computed(() => runs.value.filter((r) => r.error).map((r) => r.run))

// A rule is tried on made-up values; nothing is purged.
const kind = ref('sailing')
const before = ref('{"id": 7, "from_port": "tholm", "vessel_id": 3, "desk_edit": 0}')
const after = ref('{"id": 7, "from_port": "saltern", "vessel_id": 3, "desk_edit": 0}')
const trial = ref<ChangeTrial>()
const { wrong, act } = useAction()

function values(text: string, name: string): unknown {
  if (!text.trim()) return undefined
  try {
    return JSON.parse(text)
  } catch {
    throw new Error(`${name} is not a JSON object; write {"id": 7}`)
  }
}

async function tryOut() {
  trial.value = await act(() => {
    const [b, a] = [values(before.value, 'Before'), values(after.value, 'After')]
    const op = b === undefined ? 'create' : a === undefined ? 'delete' : 'update'
    return api.tryChange({ kind: kind.value.trim(), op, before: b, after: a })
  })
}
</script>

<template>
  <PageHead title="Changes" :updated="updated" />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <div v-if="status && !status.well" class="problem" role="alert">Not every source has kept its promise. {{ status.why }}</div>

  <section id="sources" class="panel">
    <h2>Sources</h2>
    <DataTable label="Sources" :columns="sourceColumns" :rows="sources" :row-key="(s) => s.name" :opened="explained">
      <template #state="{ row }"><span :class="row.well ? 'well' : 'failing'">{{ row.well ? 'well' : 'failing' }}</span></template>
      <template #run="{ row }">
        <NButton v-if="row.kind === 'table' && session.may('purge')" size="small" :loading="running === row.name" :aria-label="`Run ${row.name} now`" @click="runNow(row.name)">Run now</NButton>
      </template>
      <template #detail="{ row }"><span :class="row.why ? 'failing' : 'quiet'">{{ row.why || row.note }}</span></template>
      <template #empty><template v-if="updated">The policy names no sources yet. Add one under <code>changes:</code> and apply it: <code>gerastic policy apply policy.yaml</code></template></template>
    </DataTable>
  </section>

  <section class="panel try">
    <div class="form">
      <h2>Try the rules on made-up values</h2>
      <label for="kind">Kind of thing</label>
      <NInput v-model:value="kind" :input-props="{ id: 'kind' }" @keydown.enter="tryOut" />
      <label for="before">Before; empty for something created</label>
      <NInput v-model:value="before" type="textarea" :autosize="{ minRows: 2, maxRows: 6 }" class="mono" :input-props="{ id: 'before' }" />
      <label for="after">After; empty for something deleted</label>
      <NInput v-model:value="after" type="textarea" :autosize="{ minRows: 2, maxRows: 6 }" class="mono" :input-props="{ id: 'after' }" />
      <div><NButton id="try" @click="tryOut">Try</NButton> <span class="quiet">Nothing is purged by trying.</span></div>
    </div>
    <div class="outcome" aria-live="polite">
      <h2>What would be purged</h2>
      <p v-if="wrong" class="failing" role="alert">{{ wrong }}</p>
      <p v-else-if="!trial" class="quiet">Old and new values name tags alike: what a thing leaves changes as much as what it comes to.</p>
      <p v-else-if="trial.effects.length === 0">No rule is for {{ kind }}. There are rules for {{ trial.kinds.join(', ') || 'nothing' }}.</p>
      <ul v-else id="effects">
        <li v-for="e in trial.effects" :key="e.rule">
          Rule {{ e.rule }} {{ e.fired ? `counts, and would ${e.mode === 'stale' ? 'mark stale' : 'drop'}` : 'does not count' }}
          <span v-if="e.why" class="quiet"> {{ e.why }}</span>
          <div v-if="e.tags.length" class="mono">{{ e.tags.join(', ') }}</div>
        </li>
      </ul>
    </div>
  </section>

  <section id="runs" class="panel">
    <h2>Runs</h2>
    <DataTable label="Runs" :columns="runColumns" :rows="runs" :row-key="(r) => r.run" :opened="failed">
      <template #detail="{ row }"><span class="failing">{{ row.error }}</span></template>
      <template #empty><template v-if="updated">Nothing has been read yet. Tell of a change by hand: <code>gerastic changes send --kind sailing --after '{"id":7}'</code></template></template>
    </DataTable>
  </section>
</template>

<style scoped>
.try { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 32px; padding: 12px 16px; }
.try h2 { padding: 0 0 4px; }
.form { display: grid; gap: 6px; align-content: start; }
.form label { font-size: 13px; color: var(--quiet); }
.outcome { border-left: 1px solid var(--line); padding-left: 32px; }
.outcome ul { padding-left: 16px; margin: 8px 0; display: grid; gap: 8px; }
@media (max-width: 900px) {
  .try { grid-template-columns: 1fr; }
  .outcome { border-left: 0; padding-left: 0; }
}
</style>
