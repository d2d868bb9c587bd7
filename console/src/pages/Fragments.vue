<script setup lang="ts">
import { NInput } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, type FragmentName, type PartsTree } from '../api'
import { bytes, count, none, percent, plural, time } from '../format'
import { useLive } from '../live'
import PageHead from '../parts/PageHead.vue'
import { useRange } from '../range'

const { since, label } = useRange()
const place = useRoute()
const router = useRouter()
const names = ref<FragmentName[]>([])
const of = computed(() => String(place.query.of ?? ''))
const tag = computed(() => String(place.query.tag ?? ''))
const asked = ref(of.value)
const made = ref<PartsTree | null>(null)
const wrong = ref('')

const { updated, problem, renew } = useLive(async () => {
  names.value = await api.fragmentNames(since.value)
  await look()
}, [since])

async function look() {
  const name = of.value
  if (!name) {
    made.value = null
    wrong.value = ''
    return
  }
  try {
    const found = await api.madeOf(name)
    if (name === of.value) [made.value, wrong.value] = [found, '']
  } catch (e) {
    if (name === of.value) [made.value, wrong.value] = [null, e instanceof Error ? e.message : String(e)]
  }
}
watch(of, (name) => {
  asked.value = name
  void renew()
})

const show = (name: string) => void router.push({ query: { ...place.query, of: name || undefined, tag: undefined } })
const mark = (t: string) => void router.replace({ query: { ...place.query, tag: t === tag.value ? undefined : t } })

// A name leads to one of its fragments, or to a page that the edge puts such a piece into.
async function open(n: FragmentName) {
  const [entry] = await api.entriesOf(n.name.replace(/^edge\//, ''), 1)
  if (entry) show(entry.url)
  else wrong.value = `Nothing of ${n.name} is stored just now.`
}

interface Line {
  part: PartsTree
  depth: number
  own: string[]
  carries: boolean
}
const lines = computed(() => {
  const all: Line[] = []
  const walk = (part: PartsTree, depth: number) => {
    // What fragments hand up stands at them; the pieces that the edge puts in hand nothing up.
    const below = new Set(part.parts.filter((p) => p.kind === 'fragment').flatMap((p) => p.tags.map((t) => t.tag)))
    all.push({ part, depth, own: part.tags.map((t) => t.tag).filter((t) => !below.has(t)), carries: part.tags.some((t) => t.tag === tag.value) })
    for (const p of part.parts) walk(p, depth + 1)
  }
  if (made.value) walk(made.value, 0)
  return all
})
const touched = computed(() => new Set(lines.value.filter((l) => l.carries).map((l) => l.part.name)))
const distinct = computed(() => new Set(lines.value.map((l) => l.part.name)).size)
const life = (p: PartsTree) => (p.state === 'softened' ? 'marked stale' : p.left_s > 1e9 ? 'until purged' : p.left_s > 0 ? time(p.left_s * 1000) : `stale for ${time(-p.left_s * 1000)}`)
</script>

<template>
  <PageHead title="Fragments" :updated="updated" ranged />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section class="panel scroll">
    <table id="names" class="table">
      <caption class="quiet">What applications store as namespace/name, and what the edge puts into pages as edge/route. Figures over the last {{ label }}.</caption>
      <thead>
        <tr>
          <th scope="col">name</th>
          <th scope="col" class="number">stored</th>
          <th scope="col" class="number">bytes</th>
          <th scope="col" class="number">asked for</th>
          <th scope="col" class="number">found</th>
          <th scope="col" class="number">found in p50 / p95</th>
          <th scope="col" class="number">fills</th>
          <th scope="col" class="number">a fill takes</th>
          <th scope="col" class="number">time saved</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="n in names" :key="n.name">
          <td class="mono"><button type="button" class="link" :title="`Show one of ${n.name}`" @click="open(n)">{{ n.name }}</button></td>
          <td class="number">{{ count(n.entries) }}</td>
          <td class="number">{{ bytes(n.bytes) }}</td>
          <td class="number">{{ count(n.requests) }}</td>
          <td class="number">{{ percent(n.found_ratio) }}</td>
          <td class="number">{{ time(n.hit_latency_ms.p50) }} / {{ time(n.hit_latency_ms.p95) }}</td>
          <td class="number">{{ count(n.fills) }}</td>
          <td class="number">{{ time(n.fill_ms) }}</td>
          <td class="number">{{ time(n.time_saved_ms) }}</td>
        </tr>
        <tr v-if="updated && names.length === 0">
          <td colspan="9">No fragment was stored or asked for. An application wraps a piece in <code>LoadOrFill</code>, or a route says <code>compose: true</code>; begin with <code>gerastic token create --name site --rights fragments --namespace site</code></td>
        </tr>
      </tbody>
    </table>
  </section>

  <section class="panel scroll">
    <form class="search" @submit.prevent="show(asked.trim())">
      <label for="of">What was it made of</label>
      <NInput v-model:value="asked" :input-props="{ id: 'of' }" placeholder="/ports/tholm, or site/board(&quot;tholm&quot;)" clearable @clear="show('')" />
      <button type="submit" class="do">Show</button>
      <span v-if="made" class="quiet" role="status">
        <template v-if="tag">
          A purge of <span class="mono">{{ tag }}</span> takes {{ touched.size }} of these {{ distinct }}<template v-if="touched.size">; the others stay as they are. <RouterLink :to="{ path: '/purge', query: { tag } }">Purge</RouterLink></template><template v-else>.</template>
        </template>
        <template v-else>{{ plural(distinct, 'piece', 'pieces') }}; choose a tag to see what its purge would take.</template>
      </span>
    </form>
    <div v-if="wrong" class="problem" role="alert">{{ wrong }}</div>
    <table v-if="made" id="made" class="table">
      <thead>
        <tr>
          <th scope="col">piece</th>
          <th scope="col">state</th>
          <th scope="col" class="number">age</th>
          <th scope="col" class="number">fresh for</th>
          <th scope="col" class="number">a fill takes</th>
          <th scope="col" class="number">bytes</th>
          <th scope="col">its own tags</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(l, i) in lines" :key="i" :class="{ touched: l.carries }">
          <td class="mono piece" :style="{ paddingLeft: `${8 + l.depth * 20}px` }">
            <span v-if="l.carries" class="goes">goes</span>
            <button v-if="l.depth > 0 && l.part.kind === 'fragment'" type="button" class="link" @click="show(l.part.name)">{{ l.part.name }}</button>
            <template v-else>{{ l.part.name.replace(/^https?:\/\//, '') }}</template>
            <span v-if="l.part.kind === 'piece'" class="quiet"> by the edge</span>
          </td>
          <td>{{ l.part.state }}</td>
          <template v-if="l.part.state === 'missing'">
            <td class="number">{{ none }}</td>
            <td class="number">{{ none }}</td>
            <td class="number">{{ none }}</td>
            <td class="number">{{ none }}</td>
          </template>
          <template v-else>
            <td class="number">{{ time(l.part.age_s * 1000) }}</td>
            <td class="number">{{ life(l.part) }}</td>
            <td class="number">{{ time(l.part.cost_ms) }}</td>
            <td class="number">{{ bytes(l.part.bytes) }}</td>
          </template>
          <td class="own">
            <button v-for="t in l.own.slice(0, 6)" :key="t" type="button" class="tag mono" :aria-pressed="t === tag" @click="mark(t)">{{ t }}</button>
            <span v-if="l.own.length > 6" class="quiet" :title="l.own.slice(6).join(', ')">and {{ l.own.length - 6 }} more</span>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="!wrong" class="quiet hint">Name a page by its URL, or a fragment, to see the pieces in it, how old they are, and what a purge of one tag would take. From a terminal: <code>gerastic fragments show /ports/tholm</code></p>
  </section>
</template>

<style scoped>
caption { text-align: left; font-size: 13px; padding: 0 8px 8px; }
.panel { margin-bottom: 8px; padding: 12px 8px; }
.table { font-size: 13px; }
.search { display: grid; grid-template-columns: max-content minmax(160px, 340px) max-content 1fr; align-items: center; gap: 12px; padding: 0 8px 8px; font-size: 13px; }
.do { font: inherit; font-size: 13px; height: 30px; padding: 0 12px; border: 1px solid var(--accent); background: var(--panel); color: var(--accent); cursor: pointer; }
.hint { padding: 0 8px; margin: 4px 0; font-size: 13px; }
.link, .tag { font: inherit; color: var(--accent); background: none; border: 0; padding: 0; cursor: pointer; text-align: left; overflow-wrap: anywhere; }
.link { font-family: var(--mono); }
.link:hover, .tag:hover { text-decoration: underline; }
.mono { font-size: 12px; }
.piece { min-width: 260px; }
.tag { font-family: var(--mono); font-size: 12px; margin-right: 10px; }
.tag[aria-pressed='true'] { font-weight: 700; text-decoration: underline; }
.touched td { background: color-mix(in srgb, var(--miss) 12%, transparent); }
.goes { font-family: inherit; font-size: 11px; color: var(--ground); background: var(--miss); padding: 1px 5px; margin-right: 6px; }
a { color: var(--accent); }
@media (max-width: 700px) { .search { grid-template-columns: 1fr; } }
</style>
