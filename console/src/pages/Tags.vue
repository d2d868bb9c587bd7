<script setup lang="ts">
import { NInput } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, type Entry, type Tag } from '../api'
import { ago, bytes, count, moment, none, plural, time, utc } from '../format'
import { useLive } from '../live'
import { figure, type Column } from '../parts/columns'
import DataTable from '../parts/DataTable.vue'
import PageHead from '../parts/PageHead.vue'

const place = useRoute()
const router = useRouter()
const prefix = ref('')
const chosen = computed(() => String(place.query.tag ?? ''))
const most = 200
const few = 12

const { data, updated, problem } = useLive(async () => {
  const of = chosen.value
  const [tags, entries] = await Promise.all([api.tags(prefix.value, most), of ? api.entries(of, few) : []])
  return { tags, entries, of }
}, [prefix, chosen])
const tags = computed(() => data.value?.tags ?? [])
const entries = computed(() => (data.value?.of === chosen.value ? data.value.entries : []))
const purged = computed(() => tags.value.find((t) => t.tag === chosen.value)?.purged)

const choose = (tag: string) => void router.push({ query: { ...place.query, tag: tag === chosen.value ? undefined : tag } })
const routes = (t: Tag) => Object.entries(t.routes).sort((a, b) => b[1] - a[1])
// The chosen tag first: it is why the entry is here.
const named = (e: Entry, from: string) =>
  e.tags
    .filter((t) => t.from === from)
    .map((t) => t.tag)
    .sort((a, b) => Number(b === chosen.value) - Number(a === chosen.value))
const life = (e: Entry) => (e.state === 'softened' ? 'marked stale' : e.left_s > 1e9 ? 'fresh until it is purged' : e.left_s > 0 ? `fresh for ${time(e.left_s * 1000)}` : `stale for ${time(-e.left_s * 1000)}`)

const entryColumns: Column<Entry>[] = [
  { key: 'url', title: 'URL', by: (e) => e.url, tip: (e) => e.url, look: 'mono' },
  { key: 'route', title: 'route', by: (e) => e.route, text: (e) => e.route },
  figure('bytes', 'size', (e) => e.bytes, bytes),
  figure('age', 'age', (e) => e.age_s, (s) => time(s * 1000)),
  { key: 'life', title: 'life', by: (e) => e.left_s, text: life, look: 'moment' },
  { key: 'tags', title: 'its tags, and where they came from' },
]
const tagColumns: Column<Tag>[] = [
  { key: 'tag', title: 'tag', by: (t) => t.tag, look: 'mono' },
  figure('entries', 'entries', (t) => t.entries, count),
  figure('bytes', 'size', (t) => t.bytes, bytes),
  { key: 'routes', title: 'routes that carry it', text: (t) => routes(t).map(([r, n]) => `${r} ${count(n)}`).join(', ') },
  {
    key: 'purged',
    title: 'last purge',
    by: (t) => t.purged?.sequence,
    text: (t) => (t.purged ? `${t.purged.sequence}, ${moment(t.purged.at)} by ${t.purged.actor}` : none),
    tip: (t) => (t.purged ? utc(t.purged.at) : ''),
    look: 'moment',
  },
  { key: 'purge', title: '' },
]
</script>

<template>
  <PageHead title="Tags" :updated="updated" />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section v-if="chosen" id="carrying" class="panel" aria-live="polite">
    <h2>
      Entries that carry <span class="mono">{{ chosen }}</span>
      <button type="button" class="link" aria-label="Close" @click="choose(chosen)">close</button>
    </h2>
    <DataTable :label="`Entries that carry ${chosen}`" :columns="entryColumns" :rows="entries" :row-key="(e) => e.url + e.vary + e.stamp">
      <template #url="{ row }"><span class="url">{{ row.url.replace(/^https?:\/\//, '') }}<span v-if="row.vary" class="quiet"> {{ row.vary }}</span></span></template>
      <template #tags="{ row }">
        <template v-for="from in ['route', 'origin', 'application']" :key="from">
          <span v-if="named(row, from).length" class="tags"><span class="quiet">{{ from }}</span> <span class="mono" :title="named(row, from).join(', ')">{{ named(row, from).slice(0, 8).join(', ') }}</span><span v-if="named(row, from).length > 8" class="quiet"> and {{ named(row, from).length - 8 }} more</span></span>
        </template>
      </template>
      <template #empty><template v-if="data?.of === chosen">None any more<template v-if="purged">: it was purged {{ ago(purged.at) }}</template>.</template></template>
    </DataTable>
    <p v-if="entries.length === few" class="quiet caption">These are {{ few }} of them.</p>
  </section>

  <section id="tags" class="panel">
    <div class="search">
      <label for="prefix">Tags that begin with</label>
      <NInput v-model:value="prefix" :input-props="{ id: 'prefix' }" placeholder="port:" clearable />
      <span class="quiet" role="status">{{ tags.length === most ? `the ${most} with most entries` : plural(tags.length, 'tag', 'tags') }}</span>
    </div>
    <DataTable label="Tags" :columns="tagColumns" :rows="tags" :row-key="(t) => t.tag" :row-class="(t) => (t.tag === chosen ? 'chosen' : '')">
      <template #tag="{ row }"><button type="button" class="link" :aria-pressed="row.tag === chosen" @click="choose(row.tag)">{{ row.tag }}</button></template>
      <template #purge="{ row }"><RouterLink :to="{ path: '/purge', query: { tag: row.tag } }">purge</RouterLink></template>
      <template #empty><template v-if="updated">{{ prefix ? 'No stored entry carries a tag that begins so.' : 'No stored entry carries a tag yet. A route gives them by tags: ["port:{port}"], an origin by Cache-Groups.' }}</template></template>
    </DataTable>
  </section>
</template>

<style scoped>
.search { display: grid; grid-template-columns: max-content minmax(120px, 320px) 1fr; align-items: center; gap: 16px; padding: 0 8px 8px; font-size: 13px; }
h2 .link { font-size: 13px; font-weight: 400; margin-left: 16px; }
.url { display: block; min-width: 240px; }
.tags { display: block; padding: 1px 0; }
/* The rows are the table's, not this page's. */
:deep(.chosen td) { background: var(--ground); }
:deep(.chosen .link) { font-weight: 600; }
</style>
