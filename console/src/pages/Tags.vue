<script setup lang="ts">
import { NInput } from 'naive-ui'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, type Entry, type Tag } from '../api'
import { ago, bytes, count, moment, none, plural, time, utc } from '../format'
import { useLive } from '../live'
import PageHead from '../parts/PageHead.vue'

const place = useRoute()
const router = useRouter()
const prefix = ref('')
const tags = ref<Tag[]>([])
const entries = ref<Entry[]>([])
const chosen = computed(() => String(place.query.tag ?? ''))
const most = 200

const { updated, problem, renew } = useLive(async () => {
  const asked = prefix.value
  const [found, carrying] = await Promise.all([api.tags(asked, most), chosen.value ? api.entries(chosen.value, 12) : Promise.resolve([])])
  if (asked !== prefix.value) return
  tags.value = found
  entries.value = carrying
})
watch([prefix, chosen], () => void renew())

const choose = (tag: string) => void router.push({ query: { ...place.query, tag: tag === chosen.value ? undefined : tag } })
const routes = (t: Tag) => Object.entries(t.routes).sort((a, b) => b[1] - a[1])
// The chosen tag first: it is why the entry is here.
const named = (e: Entry, from: string) =>
  e.tags
    .filter((t) => t.from === from)
    .map((t) => t.tag)
    .sort((a, b) => Number(b === chosen.value) - Number(a === chosen.value))
const life = (e: Entry) => (e.state === 'softened' ? 'marked stale' : e.left_s > 1e9 ? 'fresh until it is purged' : e.left_s > 0 ? `fresh for ${time(e.left_s * 1000)}` : `stale for ${time(-e.left_s * 1000)}`)
</script>

<template>
  <PageHead title="Tags" :updated="updated" />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>
  <section v-if="chosen" class="panel scroll" aria-live="polite">
    <h2>
      Entries that carry <span class="mono">{{ chosen }}</span>
      <button type="button" class="link" aria-label="Close" @click="choose(chosen)">close</button>
    </h2>
    <table id="carrying" class="table">
      <thead>
        <tr>
          <th scope="col">URL</th>
          <th scope="col">route</th>
          <th scope="col" class="number">bytes</th>
          <th scope="col" class="number">age</th>
          <th scope="col">life</th>
          <th scope="col">its tags, and where they came from</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in entries" :key="e.url + e.vary + e.stamp">
          <td class="mono url" :title="e.url">{{ e.url.replace(/^https?:\/\//, '') }}<span v-if="e.vary" class="quiet"> {{ e.vary }}</span></td>
          <td>{{ e.route }}</td>
          <td class="number">{{ bytes(e.bytes) }}</td>
          <td class="number">{{ time(e.age_s * 1000) }}</td>
          <td class="when">{{ life(e) }}</td>
          <td class="tags">
            <template v-for="from in ['route', 'origin', 'application']" :key="from">
              <span v-if="named(e, from).length"><span class="quiet">{{ from }}</span> <span class="mono" :title="named(e, from).join(', ')">{{ named(e, from).slice(0, 8).join(', ') }}</span><span v-if="named(e, from).length > 8" class="quiet"> and {{ named(e, from).length - 8 }} more</span></span>
            </template>
          </td>
        </tr>
        <tr v-if="entries.length === 12">
          <td colspan="6" class="quiet">These are twelve of them.</td>
        </tr>
        <tr v-if="entries.length === 0">
          <td colspan="6">None any more<template v-if="tags.find((t) => t.tag === chosen)?.purged">: it was purged {{ ago(tags.find((t) => t.tag === chosen)!.purged!.at) }}</template>.</td>
        </tr>
      </tbody>
    </table>
  </section>

  <section class="panel scroll">
    <div class="search">
      <label for="prefix">Tags that begin with</label>
      <NInput v-model:value="prefix" :input-props="{ id: 'prefix' }" placeholder="port:" clearable />
      <span class="quiet" role="status">{{ tags.length === most ? `the ${most} with most entries` : plural(tags.length, 'tag', 'tags') }}</span>
    </div>
      <table id="tags" class="table">
        <thead>
          <tr>
            <th scope="col">tag</th>
            <th scope="col" class="number">entries</th>
            <th scope="col" class="number">bytes</th>
            <th scope="col">routes that carry it</th>
            <th scope="col">last purge</th>
            <th scope="col"></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="t in tags" :key="t.tag" :class="{ chosen: t.tag === chosen }">
            <td class="mono">
              <button type="button" class="link" :aria-pressed="t.tag === chosen" @click="choose(t.tag)">{{ t.tag }}</button>
            </td>
            <td class="number">{{ count(t.entries) }}</td>
            <td class="number">{{ bytes(t.bytes) }}</td>
            <td>{{ routes(t).map(([r, n]) => `${r} ${count(n)}`).join(', ') }}</td>
            <td class="when">
              <span v-if="t.purged" :title="utc(t.purged.at)">{{ t.purged.sequence }}, {{ moment(t.purged.at) }} by {{ t.purged.actor }}</span>
              <span v-else>{{ none }}</span>
            </td>
            <td><RouterLink :to="{ path: '/purge', query: { tag: t.tag } }">purge</RouterLink></td>
          </tr>
          <tr v-if="updated && tags.length === 0">
            <td colspan="6">{{ prefix ? 'No stored entry carries a tag that begins so.' : 'No stored entry carries a tag yet. A route gives them by tags: ["port:{port}"], an origin by Cache-Groups.' }}</td>
          </tr>
        </tbody>
      </table>
  </section>
</template>

<style scoped>
.panel { margin-bottom: 8px; padding: 12px 8px; }
.panel h2 { padding: 0 8px 8px; }
.search { display: grid; grid-template-columns: max-content minmax(120px, 320px) 1fr; align-items: center; gap: 16px; padding: 0 8px 8px; font-size: 13px; }
.table { font-size: 13px; }
h2 .link { font-size: 13px; font-weight: 400; margin-left: 16px; }
.link { font: inherit; color: var(--accent); background: none; border: 0; padding: 0; cursor: pointer; text-align: left; overflow-wrap: anywhere; }
.link:hover { text-decoration: underline; }
.chosen td { background: var(--ground); }
.chosen .link { font-weight: 600; }
.when { white-space: nowrap; font-variant-numeric: tabular-nums; }
.mono { font-size: 12px; }
.url { min-width: 260px; }
.tags > span { display: block; padding: 1px 0; }
#carrying td { vertical-align: top; }
a { color: var(--accent); }
</style>
