<script setup lang="ts">
import { NAutoComplete, NButton, NCheckbox, NInput, NRadio, NRadioGroup, NTag } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, type Purge, type PurgeRequest, type PurgeResult, type Tag } from '../api'
import { bytes, count, moment, plural, time, utc } from '../format'
import { useLive } from '../live'
import PageHead from '../parts/PageHead.vue'
import { useSession } from '../session'

const session = useSession()
const place = useRoute()
const typed = ref('')
// What a purge can name. Tags are looked up; the others are typed.
const kinds = {
  tags: { label: 'Tags', hint: 'port:tholm, or port:* for all that begin so' },
  urls: { label: 'URLs', hint: '/ports/tholm?page=2, or with https://HOST before' },
  routes: { label: 'Routes', hint: 'departures' },
  below: { label: 'Below a path', hint: '/ports/, or with https://HOST before' },
  hosts: { label: 'Hosts', hint: 'www.ostrel.example' },
  all: { label: 'All that is stored', hint: '' },
} as const
type Kind = keyof typeof kinds
const kind = ref<Kind>('tags')
const together = ref(false)
const tags = ref<string[]>(place.query.tag ? [String(place.query.tag)] : [])
const known = ref<Tag[]>([])
const mode = ref<'drop' | 'stale'>('drop')
const reason = ref('')
const preview = ref<PurgeResult | null>(null)
const done = ref('')
const wrong = ref('')
const busy = ref(false)
const purges = ref<Purge[]>([])

const { updated, problem, renew } = useLive(async () => {
  purges.value = await api.purges(30)
})

watch(
  typed,
  async (prefix) => {
    const found = await api.tags(prefix, 12).catch(() => [])
    if (prefix === typed.value) known.value = found
  },
  { immediate: true },
)
// Answers come later than keys: what no longer fits is not offered, lest Enter take it.
const suggestions = computed(() =>
  known.value
    .filter((t) => t.tag.startsWith(typed.value) && !tags.value.includes(t.tag))
    .map((t) => ({ label: `${t.tag}   ${plural(t.entries, 'entry', 'entries')}`, value: t.tag })),
)
watch([tags, mode, kind, together], look, { deep: true, immediate: true })
watch(kind, () => {
  tags.value = []
  typed.value = ''
  done.value = ''
})
watch(
  () => place.query.tag,
  (tag) => tag && add(String(tag)),
)

// A star is only a way to write: it is spelled out from the tags that are stored.
async function add(tag: string) {
  const name = tag.trim()
  let names = [name]
  if (kind.value === 'tags' && name.includes('*')) {
    const like = new RegExp(`^${name.split('*').map((s) => s.replace(/[.+?^${}()|[\]\\]/g, '\\$&')).join('.*')}$`, 's')
    names = (await api.tags(name.slice(0, name.indexOf('*')), 1000).catch(() => [])).map((t) => t.tag).filter((t) => like.test(t))
    wrong.value = names.length === 0 ? `No stored entry carries a tag like ${name}.` : ''
  }
  for (const n of names) if (n && !tags.value.includes(n)) tags.value.push(n)
  done.value = ''
  window.setTimeout(() => (typed.value = ''))
}

function order(dry: boolean): PurgeRequest {
  const named = kind.value === 'all' ? { all: true } : { [kind.value]: [...tags.value] }
  return { ...named, together: (kind.value === 'tags' && together.value && tags.value.length > 1) || undefined, mode: mode.value, preview: dry, reason: dry ? undefined : reason.value || undefined }
}

// What would go is shown before anything goes.
async function look() {
  wrong.value = ''
  if ((tags.value.length === 0 && kind.value !== 'all') || !session.may('purge')) {
    preview.value = null
    return
  }
  const asked = JSON.stringify(order(true))
  try {
    const answer = await api.purge(order(true))
    if (asked === JSON.stringify(order(true))) preview.value = answer
  } catch (e) {
    wrong.value = e instanceof Error ? e.message : String(e)
  }
}

async function carryOut() {
  busy.value = true
  wrong.value = ''
  try {
    const r = await api.purge(order(false))
    const verb = r.mode === 'stale' ? 'marked stale' : 'dropped'
    done.value = `Purge ${r.sequence}: ${plural(r.matched.entries, 'entry', 'entries')} ${verb}, ${r.nodes.map((n) => (n.applied ? `in force on ${n.node} after ${time(n.took_ms)}` : `not yet on ${n.node}`)).join(', ')}.`
    tags.value = []
    if (kind.value === 'all') kind.value = 'tags'
    reason.value = ''
    await renew()
  } catch (e) {
    wrong.value = e instanceof Error ? e.message : String(e)
  } finally {
    busy.value = false
  }
}

const button = computed(() => {
  const n = preview.value?.matched.entries ?? 0
  return mode.value === 'stale' ? `Mark ${plural(n, 'entry', 'entries')} stale` : `Drop ${plural(n, 'entry', 'entries')}`
})

function what(p: Purge): string {
  if (p.all) return 'all that is stored'
  const tags = p.together ? [p.tags.join(' + ')] : p.tags
  return [...tags, ...p.routes.map((r) => `route ${r}`), ...p.below.map((x) => `below ${x}`), ...p.hosts.map((h) => `host ${h}`), ...p.urls].join(', ')
}
function short(p: Purge): string {
  const text = what(p)
  return text.length > 160 ? `${text.slice(0, 160)}…` : text
}
const opened = ref(0)
const byCount = (routes: Record<string, number>) => Object.entries(routes).sort((a, b) => b[1] - a[1])
</script>

<template>
  <PageHead title="Purge" :updated="updated" />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>

  <p v-if="!session.may('purge')" class="panel">Your token may not purge. Make one that may: <code>gerastic token create --name NAME --rights read,purge</code></p>
  <section v-else class="panel order">
    <div class="form">
      <NRadioGroup v-model:value="kind" aria-label="What to name" class="kinds">
        <NRadio v-for="(k, name) in kinds" :key="name" :value="name">{{ k.label }}</NRadio>
      </NRadioGroup>
      <label v-if="kind !== 'all'" for="tag">{{ kind === 'tags' ? `Tags: entries that carry ${together ? 'all' : 'any'} of these` : kinds[kind].label }}</label>
      <NInput v-if="kind !== 'all' && kind !== 'tags'" v-model:value="typed" :input-props="{ id: 'tag' }" :placeholder="kinds[kind].hint" @keydown.enter.prevent="add(typed)" @blur="add(typed)" />
      <NAutoComplete v-if="kind === 'tags'" v-model:value="typed" :options="suggestions" :get-show="() => true" :input-props="{ id: 'tag' }" :placeholder="kinds.tags.hint" blur-after-select clear-after-select @select="(v: string | number) => add(String(v))" @keydown.enter.prevent="add(typed)" />
      <div v-if="tags.length" class="chosen">
        <NTag v-for="t in tags" :key="t" closable class="mono" @close="tags = tags.filter((x) => x !== t)">{{ t }}</NTag>
      </div>
      <NCheckbox v-if="kind === 'tags' && tags.length > 1" v-model:checked="together">Only entries that carry all of them</NCheckbox>
      <NRadioGroup v-model:value="mode" aria-label="What happens to them" class="modes">
        <NRadio value="drop">Drop: never used again</NRadio>
        <NRadio value="stale">Mark stale: revalidated before use, still served while that runs</NRadio>
      </NRadioGroup>
      <label for="reason">Reason, for those who read the ledger</label>
      <NInput v-model:value="reason" :input-props="{ id: 'reason' }" placeholder="pier closed until noon" maxlength="500" />
      <div>
        <NButton id="carry-out" type="error" :disabled="!preview || preview.matched.entries === 0" :loading="busy" @click="carryOut">{{ preview ? button : 'Name something first' }}</NButton>
      </div>
      <p v-if="done" id="done" class="result" role="status">{{ done }}</p>
      <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
    </div>
    <div class="preview" aria-live="polite">
      <h2>What would go</h2>
      <p v-if="!preview" class="quiet">Name something to see which entries would go. Nothing is changed by looking.</p>
      <p v-else-if="preview.matched.entries === 0">Nothing that is stored is named by this.</p>
      <template v-else>
        <p><strong id="would-go">{{ plural(preview.matched.entries, 'entry', 'entries') }}</strong>, {{ bytes(preview.matched.bytes) }}</p>
        <table class="table narrow">
          <tbody>
            <tr v-for="[route, n] in byCount(preview.matched.routes)" :key="route">
              <td>{{ route }}</td>
              <td class="number">{{ count(n) }}</td>
            </tr>
          </tbody>
        </table>
        <ul class="mono sample">
          <li v-for="u in (preview.matched.sample ?? []).slice(0, 5)" :key="u" class="url" :title="u">{{ u }}</li>
          <li v-if="preview.matched.entries > 5" class="quiet">and {{ count(preview.matched.entries - 5) }} more</li>
        </ul>
      </template>
    </div>
  </section>

  <section class="panel scroll">
    <h2>History</h2>
    <table class="table" id="history">
      <thead>
        <tr>
          <th scope="col" class="number">purge</th>
          <th scope="col">when</th>
          <th scope="col">by</th>
          <th scope="col">what</th>
          <th scope="col">mode</th>
          <th scope="col" class="number">entries</th>
          <th scope="col" class="number">in force after</th>
          <th scope="col">why</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="p in purges" :key="p.sequence">
        <tr>
          <td class="number">
            <button type="button" class="link" :aria-expanded="opened === p.sequence" :aria-label="`Details of purge ${p.sequence}`" @click="opened = opened === p.sequence ? 0 : p.sequence">{{ p.sequence }}</button>
          </td>
          <td class="when" :title="utc(p.at)">{{ moment(p.at) }}</td>
          <td class="when">{{ p.actor }}</td>
          <td class="mono what">{{ short(p) }}</td>
          <td>{{ p.mode }}</td>
          <td class="number">{{ count(p.matched.entries) }}</td>
          <td class="number" :title="p.nodes.map((n) => n.node).join(', ')">{{ p.nodes.length ? time(p.nodes[0].took_ms) : '–' }}</td>
          <td>{{ p.reason }}</td>
        </tr>
        <tr v-if="opened === p.sequence" class="detail">
          <td></td>
          <td colspan="7">
            <dl>
              <dt>named</dt>
              <dd class="mono">{{ what(p) }}</dd>
              <dt>went</dt>
              <dd>{{ plural(p.matched.entries, 'entry', 'entries') }}, {{ bytes(p.matched.bytes) }}<template v-if="p.matched.entries">: {{ byCount(p.matched.routes).map(([r, n]) => `${r} ${count(n)}`).join(', ') }}</template></dd>
              <template v-for="n in p.nodes" :key="n.node">
                <dt>on {{ n.node }}</dt>
                <dd>{{ n.applied ? `in force after ${time(n.took_ms)}, counted and freed after ${time(n.sweep_ms)} more` : 'not applied yet' }}</dd>
              </template>
              <dt>ordered</dt>
              <dd>by {{ p.actor }}, {{ utc(p.at) }}{{ p.reason ? `: ${p.reason}` : '' }}</dd>
            </dl>
          </td>
        </tr>
        </template>
        <tr v-if="updated && purges.length === 0">
          <td colspan="8">Nothing has been purged yet. From a script: <code>gerastic purge --tag TAG --reason WHY</code></td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.panel { margin-bottom: 8px; }
.order { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 32px; }
.form { display: grid; gap: 8px; align-content: start; }
.form label { font-size: 13px; color: var(--quiet); }
.chosen { display: flex; flex-wrap: wrap; gap: 8px; }
.kinds { display: flex; flex-wrap: wrap; gap: 4px 8px; }
.link { font: inherit; color: var(--accent); background: none; border: 0; padding: 0; cursor: pointer; text-decoration: underline; }
.detail td { background: var(--ground); }
.detail dl { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 4px 16px; margin: 4px 0; }
.detail dt { color: var(--quiet); }
.detail dd { margin: 0; max-height: 120px; overflow-y: auto; }
.modes { display: grid; gap: 4px; margin: 8px 0; }
.result { margin: 0; }
.wrong { margin: 0; color: var(--danger); }
.preview { border-left: 1px solid var(--line); padding-left: 32px; }
.preview p { margin: 8px 0; }
.narrow { max-width: 280px; }
.sample { list-style: none; padding: 0; margin: 8px 0 0; font-size: 12px; }
li.url { white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
.when { white-space: nowrap; font-variant-numeric: tabular-nums; }
.what { font-size: 12px; max-width: 320px; }
#history { font-size: 13px; }
@media (max-width: 900px) {
  .order { grid-template-columns: 1fr; }
  .preview { border-left: 0; padding-left: 0; }
}
</style>
