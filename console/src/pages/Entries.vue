<script setup lang="ts">
import { NButton, NInput, NSelect } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useAction } from '../action'
import { api, type Entry, type EntryDetail } from '../api'
import { bytes, count, moment, none, plural, time } from '../format'
import { useLive } from '../live'
import { figure, type Column } from '../parts/columns'
import DataTable from '../parts/DataTable.vue'
import PageHead from '../parts/PageHead.vue'
import { useSession } from '../session'

const place = useRoute()
const router = useRouter()
const session = useSession()
const most = 100
const said = (name: string) => String(place.query[name] ?? '')
const asked = ref({ below: said('below'), route: said('route'), tag: said('tag') })
const sort = computed(() => said('sort') || 'worth')
const tier = computed(() => said('tier'))
const id = computed(() => said('id'))

const go = (change: Record<string, string>) => void router.push({ query: { ...place.query, ...Object.fromEntries(Object.entries(change).map(([k, v]) => [k, v || undefined])) } })
const search = () => go({ below: asked.value.below.trim(), route: asked.value.route.trim(), tag: asked.value.tag.trim(), id: '' })

const { data, updated, problem, renew } = useLive(
  async () => {
    const [list, one] = await Promise.all([
      api.entryList({ below: said('below'), route: said('route'), tag: said('tag'), tier: tier.value, sort: sort.value, limit: String(most) }),
      id.value ? api.entry(id.value).catch(() => null) : undefined,
    ])
    return { list, one, of: id.value }
  },
  [() => place.query],
)
const entries = computed(() => data.value?.list.entries ?? [])
const total = computed(() => data.value?.list.total ?? 0)
const one = computed(() => (data.value?.of === id.value ? data.value.one : undefined))

const life = (e: Entry) => (e.state === 'softened' ? 'marked stale' : e.left_s > 1e9 ? 'until purged' : e.left_s > 0 ? time(e.left_s * 1000) : `stale for ${time(-e.left_s * 1000)}`)
const worth = (n: number) => (n >= 1000 ? count(Math.round(n)) : n.toPrecision(3))
const path = (e: Entry) => e.url.replace(/^https?:\/\//, '')

const columns: Column<Entry>[] = [
  { key: 'url', title: 'URL', tip: (e) => e.url },
  { key: 'route', title: 'route', by: (e) => e.route, text: (e) => e.route },
  { key: 'tier', title: 'tier', by: (e) => e.tier, text: (e) => e.tier },
  figure('bytes', 'size', (e) => e.bytes, bytes),
  figure('age', 'age', (e) => e.age_s, (s) => time(s * 1000)),
  { key: 'life', title: 'fresh for', by: (e) => e.left_s, text: life, look: 'number' },
  figure('uses', 'uses', (e) => e.uses, (n) => n.toFixed(1)),
  figure('cost', 'a fill takes', (e) => e.cost_ms, time),
  figure('worth', 'worth, ns a byte', (e) => e.worth, worth),
]

// What a drop would take is shown before it is done, and stands on the button.
const dropping = useAction()
const preview = ref<{ id: string; entries: number; bytes: number }>()
const done = ref('')
watch(id, () => {
  preview.value = undefined
  done.value = ''
  dropping.wrong.value = ''
})
const look = (e: EntryDetail) =>
  dropping.act(async () => {
    const r = await api.dropEntry(e.id, true)
    preview.value = { id: e.id, entries: r.matched.entries, bytes: r.matched.bytes }
  })
const drop = (e: EntryDetail) =>
  dropping.act(async () => {
    const r = await api.dropEntry(e.id, false)
    done.value = `Dropped, with purge ${r.sequence}.`
    preview.value = undefined
    await renew()
  })
const tags = (e: EntryDetail) => e.tags.map((t) => ({ ...t, takes: e.purges[t.tag] }))
const facts = (e: EntryDetail): [string, string][] => [
  ['in', `${e.tier}, ${bytes(e.bytes)}; its body ${bytes(e.body_bytes)}${Object.entries(e.coded).map(([c, n]) => `, ${c} ${bytes(n)}`).join('')}`],
  ['life', `${time(e.age_s * 1000)} old, fresh for ${life(e)}; asked for ${time(e.idle_s * 1000)} ago`],
  ['worth', `${worth(e.worth)} ns of its origin's time a byte: ${e.uses.toFixed(1)} uses × ${time(e.cost_ms)} ÷ ${bytes(e.bytes)}`],
  ['varies by', e.vary || none],
  ['filled after', e.stamp ? `purge ${e.stamp}` : 'no purge yet'],
]
</script>

<template>
  <PageHead title="Entries" :updated="updated" />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section v-if="id" id="entry" class="panel" aria-live="polite">
    <template v-if="one">
      <h2><span class="mono">{{ path(one) }}</span> <button type="button" class="link" aria-label="Close" @click="go({ id: '' })">close</button></h2>
      <div class="two">
        <dl>
          <template v-for="[name, text] in facts(one)" :key="name"><dt>{{ name }}</dt><dd>{{ text }}</dd></template>
          <dt>tags</dt>
          <dd>
            <span v-for="t in tags(one)" :key="t.tag" class="tag"><RouterLink :to="{ path: '/tags', query: { tag: t.tag } }" class="mono">{{ t.tag }}</RouterLink> <span class="quiet">{{ t.from }}<template v-if="t.takes">; its purge takes {{ plural(t.takes.entries, 'entry', 'entries') }}, {{ bytes(t.takes.bytes) }}</template></span></span>
            <template v-if="one.tags.length === 0">{{ none }}</template>
          </dd>
        </dl>
        <dl class="header">
          <template v-for="(values, name) in one.headers" :key="name"><dt>{{ name }}</dt><dd class="mono">{{ values.join(', ') }}</dd></template>
        </dl>
      </div>
      <div class="acts">
        <NButton v-if="!preview" :loading="dropping.busy.value" @click="look(one)">Drop…</NButton>
        <template v-else>
          <NButton type="error" :loading="dropping.busy.value" @click="drop(one)">Drop {{ plural(preview.entries, 'entry', 'entries') }}, {{ bytes(preview.bytes) }}</NButton>
          <NButton @click="preview = undefined">Keep</NButton>
        </template>
        <a v-if="session.may('admin')" :href="`/v1/entries/${one.id}/body`" :download="path(one).replaceAll('/', '_')">its body</a>
        <span v-if="dropping.wrong.value" class="problem" role="alert">{{ dropping.wrong.value }}</span>
      </div>
    </template>
    <p v-else-if="data?.of === id" class="quiet caption">{{ done || 'It is not stored any more, or another answer has taken its place.' }} <button type="button" class="link" @click="go({ id: '' })">close</button></p>
  </section>

  <section id="list" class="panel">
    <form class="search" @submit.prevent="search">
      <label for="below">Below</label><NInput v-model:value="asked.below" :input-props="{ id: 'below' }" placeholder="/ports/" clearable @clear="go({ below: '' })" />
      <label for="route">Route</label><NInput v-model:value="asked.route" :input-props="{ id: 'route' }" placeholder="departures" clearable @clear="go({ route: '' })" />
      <label for="tag">Tag</label><NInput v-model:value="asked.tag" :input-props="{ id: 'tag' }" placeholder="port:tholm" clearable @clear="go({ tag: '' })" />
      <NSelect :value="tier" :options="[{ label: 'both tiers', value: '' }, { label: 'memory', value: 'memory' }, { label: 'disk', value: 'disk' }]" :input-props="{ 'aria-label': 'Tier' }" @update:value="(v: string) => go({ tier: v })" />
      <NSelect :value="sort" :options="['worth', 'bytes', 'age', 'used', 'cost'].map((v) => ({ label: `most ${v}`, value: v }))" :input-props="{ 'aria-label': 'Which first' }" @update:value="(v: string) => go({ sort: v })" />
      <NButton attr-type="submit">Show</NButton>
    </form>
    <p class="quiet caption" role="status">{{ total > most ? `${count(most)} of ${plural(total, 'entry', 'entries')}` : plural(total, 'entry', 'entries') }}<template v-if="updated"> at {{ moment(updated.toISOString()) }}</template>. When memory is full, the least worth goes first.</p>
    <DataTable label="Entries" :columns="columns" :rows="entries" :row-key="(e) => e.id" :row-class="(e) => (e.id === id ? 'chosen' : '')">
      <template #url="{ row }"><button type="button" class="link url" :aria-pressed="row.id === id" @click="go({ id: row.id })">{{ path(row) }}</button><span v-if="row.vary" class="quiet"> {{ row.vary }}</span></template>
      <template #empty><template v-if="updated">Nothing that fits is stored. Without a search all is listed; visitors fill the store, or <code>gerastic prime --sitemap URL</code> does.</template></template>
    </DataTable>
  </section>
</template>

<style scoped>
.search { display: grid; grid-template-columns: max-content minmax(90px, 1fr) max-content minmax(90px, 1fr) max-content minmax(90px, 1fr) 120px 130px max-content; align-items: center; gap: 8px; padding: 0 8px 8px; font-size: 13px; }
.url { font-family: var(--mono); font-size: 12px; overflow-wrap: anywhere; text-align: left; display: inline-block; min-width: 220px; }
h2 .link { font-size: 13px; font-weight: 400; margin-left: 16px; }
.two { display: grid; grid-template-columns: 1fr 1fr; gap: 16px; padding: 0 8px; font-size: 13px; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: 4px 12px; margin: 0; align-content: start; }
dt { color: var(--quiet); }
dd { margin: 0; overflow-wrap: anywhere; }
.header dd { font-size: 12px; }
.tag { display: block; }
.acts { display: flex; align-items: center; gap: 12px; padding: 12px 8px 4px; font-size: 13px; }
:deep(.chosen td) { background: var(--ground); }
@media (max-width: 900px) { .search, .two { grid-template-columns: 1fr; } }
</style>
