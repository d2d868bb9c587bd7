<script setup lang="ts">
import { NButton, NInput, useMessage } from 'naive-ui'
import { ref } from 'vue'
import { api, type ChangeRun, type ChangesStatus, type ChangeTrial } from '../api'
import { ago, bytes, count, moment, none, plural, time, utc } from '../format'
import { useLive } from '../live'
import PageHead from '../parts/PageHead.vue'
import { useSession } from '../session'

const session = useSession()
const message = useMessage()
const status = ref<ChangesStatus | null>(null)
const runs = ref<ChangeRun[]>([])
const running = ref('')

const { updated, problem, renew } = useLive(async () => {
  ;[status.value, runs.value] = await Promise.all([api.changes(), api.runs(20)])
})

async function runNow(source: string) {
  running.value = source
  try {
    const r = await api.runNow(source)
    message.success(`Run ${r.run} of ${source}: ${plural(r.changes, 'change', 'changes')}, ${plural(r.entries, 'entry', 'entries')} gone, in ${time(r.took_ms)}`)
  } catch (e) {
    message.error(e instanceof Error ? e.message : String(e), { duration: 8000 })
  } finally {
    running.value = ''
  }
  await renew()
}

// A rule is tried on made-up values; nothing is purged.
const kind = ref('sailing')
const before = ref('{"id": 7, "from_port": "tholm", "vessel_id": 3, "desk_edit": 0}')
const after = ref('{"id": 7, "from_port": "saltern", "vessel_id": 3, "desk_edit": 0}')
const trial = ref<ChangeTrial | null>(null)
const wrong = ref('')

function values(text: string, name: string): unknown {
  if (!text.trim()) return undefined
  try {
    return JSON.parse(text)
  } catch {
    throw new Error(`${name} is not a JSON object; write {"id": 7}`)
  }
}

async function tryOut() {
  wrong.value = ''
  trial.value = null
  try {
    const [b, a] = [values(before.value, 'Before'), values(after.value, 'After')]
    const op = b === undefined ? 'create' : a === undefined ? 'delete' : 'update'
    trial.value = await api.tryChange({ kind: kind.value.trim(), op, before: b, after: a })
  } catch (e) {
    wrong.value = e instanceof Error ? e.message : String(e)
  }
}
const purges = (r: ChangeRun) => (r.purges.length === 0 ? none : r.purges.length === 1 ? String(r.purges[0]) : `${r.purges[0]} … ${r.purges[r.purges.length - 1]}`)
</script>

<template>
  <PageHead title="Changes" :updated="updated" />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <div v-if="status && !status.well" class="problem" role="alert">Not every source has kept its promise. {{ status.why }}</div>

  <section class="panel scroll">
    <h2>Sources</h2>
    <table id="sources" class="table">
      <thead>
        <tr>
          <th scope="col">source</th>
          <th scope="col">kind</th>
          <th scope="col">state</th>
          <th scope="col">purged until</th>
          <th scope="col" class="number">promise</th>
          <th scope="col" class="number">changes, 1 d</th>
          <th scope="col" class="number">delay p50 / p99</th>
          <th scope="col" class="number">log held back</th>
          <th scope="col">last find</th>
          <th scope="col"></th>
        </tr>
      </thead>
      <tbody>
        <template v-for="s in status?.sources ?? []" :key="s.name">
          <tr>
            <td>{{ s.name }}</td>
            <td>{{ s.kind }}</td>
            <td><span :class="s.well ? 'well' : 'failing'">{{ s.well ? 'well' : 'failing' }}</span></td>
            <td class="when"><span v-if="s.checked" :title="utc(s.checked)">{{ ago(s.checked) }}</span><span v-else>{{ none }}</span></td>
            <td class="number">{{ s.kind === 'webhook' ? none : time(s.within_s * 1000) }}</td>
            <td class="number">{{ count(s.changes) }}</td>
            <td class="number">{{ time(s.delay_p50_ms) }} / {{ time(s.delay_p99_ms) }}</td>
            <td class="number">{{ s.retained_bytes === undefined ? none : `${bytes(s.retained_bytes)} of ${bytes(s.keep_at_most_bytes ?? 0)}` }}</td>
            <td class="when"><span v-if="s.last_run" :title="utc(s.last_run.began)">{{ moment(s.last_run.began) }}, {{ plural(s.last_run.changes, 'change', 'changes') }}</span><span v-else>{{ none }}</span></td>
            <td>
              <NButton v-if="s.kind === 'table' && session.may('purge')" size="small" :loading="running === s.name" :aria-label="`Run ${s.name} now`" @click="runNow(s.name)">Run now</NButton>
            </td>
          </tr>
          <tr v-if="s.why || s.note">
            <td></td>
            <td colspan="9" :class="s.why ? 'failing' : 'quiet'">{{ s.why || s.note }}</td>
          </tr>
        </template>
        <tr v-if="updated && status?.sources.length === 0">
          <td colspan="10">The policy names no sources yet. Add one under <code>changes:</code> and apply it: <code>gerastic policy apply policy.yaml</code></td>
        </tr>
      </tbody>
    </table>
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

  <section class="panel scroll">
    <h2>Runs</h2>
    <table id="runs" class="table">
      <thead>
        <tr>
          <th scope="col" class="number">run</th>
          <th scope="col">when</th>
          <th scope="col">source</th>
          <th scope="col">because of</th>
          <th scope="col" class="number">took</th>
          <th scope="col" class="number">changes</th>
          <th scope="col" class="number">not counted</th>
          <th scope="col" class="number">tags</th>
          <th scope="col" class="number">entries gone</th>
          <th scope="col">purges</th>
          <th scope="col">node</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="r in runs" :key="r.run">
          <tr>
            <td class="number">{{ r.run }}</td>
            <td class="when" :title="utc(r.began)">{{ moment(r.began) }}</td>
            <td>{{ r.source }}</td>
            <td>{{ r.trigger }}</td>
            <td class="number">{{ time(r.took_ms) }}</td>
            <td class="number">{{ count(r.changes) }}</td>
            <td class="number">{{ count(r.skipped) }}</td>
            <td class="number">{{ count(r.tags) }}</td>
            <td class="number">{{ count(r.entries) }}</td>
            <td class="when">{{ purges(r) }}</td>
            <td>{{ r.node }}</td>
          </tr>
          <tr v-if="r.error">
            <td></td>
            <td colspan="10" class="failing">{{ r.error }}</td>
          </tr>
        </template>
        <tr v-if="updated && runs.length === 0">
          <td colspan="11">Nothing has been read yet. Tell of a change by hand: <code>gerastic changes send --kind sailing --after '{"id":7}'</code></td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.panel { margin-bottom: 8px; padding: 12px 8px; }
.panel h2 { padding: 0 8px 8px; }
.table { font-size: 13px; }
.when { white-space: nowrap; font-variant-numeric: tabular-nums; }
.well { color: var(--hit); }
.failing { color: var(--danger); }
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
