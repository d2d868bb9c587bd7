<script setup lang="ts">
import { NButton, NInput } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useAction } from '../action'
import { api, type FragmentName, type PartsTree } from '../api'
import { bytes, count, none, percent, plural, time } from '../format'
import { useLive } from '../live'
import { figure, type Column } from '../parts/columns'
import DataTable from '../parts/DataTable.vue'
import PageHead from '../parts/PageHead.vue'
import { useRange } from '../range'

const { since, label } = useRange()
const place = useRoute()
const router = useRouter()
const of = computed(() => String(place.query.of ?? ''))
const tag = computed(() => String(place.query.tag ?? ''))
const asked = ref(of.value)

// What a page is made of may be missing while the names are there: its error stands apart.
const looking = useAction()
const { data, updated, problem } = useLive(async () => {
  const [names, made] = await Promise.all([api.fragmentNames(since.value), looking.act(async () => (of.value ? await api.madeOf(of.value) : undefined))])
  return { names, made, wrong: looking.wrong.value }
}, [since, of])
const names = computed(() => data.value?.names ?? [])
const made = computed(() => data.value?.made)
const { wrong: notOpened, act } = useAction()
const wrong = computed(() => notOpened.value || data.value?.wrong)
watch(of, (name) => {
  asked.value = name
  notOpened.value = ''
})

const show = (name: string) => void router.push({ query: { ...place.query, of: name || undefined, tag: undefined } })
const mark = (t: string) => void router.replace({ query: { ...place.query, tag: t === tag.value ? undefined : t } })

// A name leads to one of its fragments, or to a page that the edge puts such an include into.
const open = (n: FragmentName) =>
  act(async () => {
    const [entry] = await api.entriesOf(n.name.replace(/^edge\//, ''), 1)
    if (!entry) throw new Error(`Nothing of ${n.name} is stored just now.`)
    show(entry.url)
  })

const nameColumns: Column<FragmentName>[] = [
  { key: 'name', title: 'name', by: (n) => n.name, look: 'mono' },
  figure('stored', 'stored', (n) => n.entries, count),
  figure('bytes', 'size', (n) => n.bytes, bytes),
  figure('asked', 'asked for', (n) => n.requests, count),
  figure('found', 'found', (n) => n.found_ratio, percent),
  { key: 'hit', title: 'found in p50 / p95', by: (n) => n.hit_latency_ms.p50, text: (n) => `${time(n.hit_latency_ms.p50)} / ${time(n.hit_latency_ms.p95)}`, look: 'number' },
  figure('fills', 'fills', (n) => n.fills, count),
  figure('fill', 'a fill takes', (n) => n.fill_ms, time),
  figure('saved', 'time saved', (n) => n.time_saved_ms, time),
]

interface Line {
  id: number
  part: PartsTree
  depth: number
  own: string[]
  carries: boolean
}
const lines = computed(() => {
  const all: Line[] = []
  const walk = (part: PartsTree, depth: number) => {
    // What fragments hand up stands at them; includes hand nothing up.
    const below = new Set(part.parts.filter((p) => p.kind === 'fragment').flatMap((p) => p.tags.map((t) => t.tag)))
    all.push({ id: all.length, part, depth, own: part.tags.map((t) => t.tag).filter((t) => !below.has(t)), carries: part.tags.some((t) => t.tag === tag.value) })
    for (const p of part.parts) walk(p, depth + 1)
  }
  if (made.value) walk(made.value, 0)
  return all
})
const touched = computed(() => new Set(lines.value.filter((l) => l.carries).map((l) => l.part.name)))
const distinct = computed(() => new Set(lines.value.map((l) => l.part.name)).size)
const life = (p: PartsTree) => (p.state === 'softened' ? 'marked stale' : p.left_s > 1e9 ? 'until purged' : p.left_s > 0 ? time(p.left_s * 1000) : `stale for ${time(-p.left_s * 1000)}`)

// The lines of a tree have an order of their own: they are not sorted.
const stored = (write: (p: PartsTree) => string) => (l: Line) => (l.part.state === 'missing' ? none : write(l.part))
const lineColumns: Column<Line>[] = [
  { key: 'part', title: 'part', look: 'mono' },
  { key: 'state', title: 'state', text: (l) => l.part.state },
  { key: 'age', title: 'age', text: stored((p) => time(p.age_s * 1000)), look: 'number' },
  { key: 'life', title: 'fresh for', text: stored(life), look: 'number' },
  { key: 'cost', title: 'a fill takes', text: stored((p) => time(p.cost_ms)), look: 'number' },
  { key: 'bytes', title: 'size', text: stored((p) => bytes(p.bytes)), look: 'number' },
  { key: 'own', title: 'its own tags' },
]
</script>

<template>
  <PageHead title="Fragments" :updated="updated" ranged />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section id="names" class="panel">
    <p class="quiet caption">What applications store as namespace/name, and what the edge puts into pages as edge/route. Figures over the last {{ label }}.</p>
    <DataTable label="Names of fragments" :columns="nameColumns" :rows="names" :row-key="(n) => n.name">
      <template #name="{ row }"><button type="button" class="link" :title="`Show one of ${row.name}`" @click="open(row)">{{ row.name }}</button></template>
      <template #empty><template v-if="updated">No fragment was stored or asked for. An application wraps a part in <code>LoadOrFill</code>, or a route says <code>compose: true</code>; begin with <code>gerastic token create --name site --rights fragments --namespace site</code></template></template>
    </DataTable>
  </section>

  <section class="panel">
    <form class="search" @submit.prevent="show(asked.trim())">
      <label for="of">What was it made of</label>
      <NInput v-model:value="asked" :input-props="{ id: 'of' }" placeholder="/ports/tholm, or site/board(&quot;tholm&quot;)" clearable @clear="show('')" />
      <NButton attr-type="submit">Show</NButton>
      <span v-if="made" class="quiet" role="status">
        <template v-if="tag">
          A purge of <span class="mono">{{ tag }}</span> takes {{ touched.size }} of these {{ distinct }}<template v-if="touched.size">; the others stay as they are. <RouterLink :to="{ path: '/purge', query: { tag } }">Purge</RouterLink></template><template v-else>.</template>
        </template>
        <template v-else>{{ plural(distinct, 'part', 'parts') }}; choose a tag to see what its purge would take.</template>
      </span>
    </form>
    <div v-if="wrong" class="problem" role="alert">{{ wrong }}</div>
    <DataTable v-if="made" id="made" label="What it was made of" :columns="lineColumns" :rows="lines" :row-key="(l) => l.id" :row-class="(l) => (l.carries ? 'touched' : '')">
      <template #part="{ row }">
        <span class="part" :style="{ paddingLeft: `${row.depth * 20}px` }">
          <span v-if="row.carries" class="goes">goes</span>
          <button v-if="row.depth > 0 && row.part.kind === 'fragment'" type="button" class="link" @click="show(row.part.name)">{{ row.part.name }}</button>
          <template v-else>{{ row.part.name.replace(/^https?:\/\//, '') }}</template>
          <span v-if="row.part.kind === 'include'" class="quiet"> by the edge</span>
        </span>
      </template>
      <template #own="{ row }">
        <button v-for="t in row.own.slice(0, 6)" :key="t" type="button" class="link tag" :aria-pressed="t === tag" @click="mark(t)">{{ t }}</button>
        <span v-if="row.own.length > 6" class="quiet" :title="row.own.slice(6).join(', ')">and {{ row.own.length - 6 }} more</span>
      </template>
    </DataTable>
    <p v-else-if="!wrong" class="quiet hint">Name a page by its URL, or a fragment, to see the parts of it, how old they are, and what a purge of one tag would take. From a terminal: <code>gerastic fragments show /ports/tholm</code></p>
  </section>
</template>

<style scoped>
.search { display: grid; grid-template-columns: max-content minmax(160px, 340px) max-content 1fr; align-items: center; gap: 12px; padding: 0 8px 8px; font-size: 13px; }
.hint { padding: 0 8px; margin: 4px 0; font-size: 13px; }
.part { display: block; min-width: 260px; }
.tag { font-family: var(--mono); font-size: 12px; margin-right: 10px; }
.tag[aria-pressed='true'] { font-weight: 700; text-decoration: underline; }
.goes { font-family: inherit; font-size: 11px; color: var(--ground); background: var(--miss); padding: 1px 5px; margin-right: 6px; }
/* The rows are the table's, not this page's. */
:deep(.touched td) { background: color-mix(in srgb, var(--miss) 12%, transparent); }
@media (max-width: 700px) { .search { grid-template-columns: 1fr; } }
</style>
