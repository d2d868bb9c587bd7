<script setup lang="ts">
import { NButton, NInput, NModal, NSelect } from 'naive-ui'
import { computed, nextTick, onUnmounted, ref, watch } from 'vue'
import { useAction } from '../action'
import { api, type NewRoute, type Route, type RouteChange } from '../api'
import { plural } from '../format'

// Adds a route, or changes one; what would come of it stands beside the fields.
const props = defineProps<{ routes: Route[]; of?: Route }>()
const open = defineModel<boolean>('open', { required: true })
const emit = defineEmits<{ done: [change: RouteChange] }>()

interface Fields { name: string; paths: string; fresh: string; query: string; headers: string; cookies: string; tags: string; like: string; before: string | null }
const nothing = (): Fields => ({ name: '', paths: '', fresh: '', query: '', headers: '', cookies: '', tags: '', like: '', before: null })
const fields = ref(nothing())
const seen = ref<RouteChange>()
const trying = useAction()
const saving = useAction()
const wrong = computed(() => saving.wrong.value || trying.wrong.value)

const list = (text: string) => text.split(/[\s,]+/).filter((one) => one !== '')
const wanted = (preview: boolean): NewRoute => ({
  name: fields.value.name.trim(), paths: list(fields.value.paths), fresh: fields.value.fresh.trim() || undefined, query: fields.value.query.trim() || undefined,
  headers: list(fields.value.headers), cookies: list(fields.value.cookies), tags: list(fields.value.tags), like: list(fields.value.like), before: fields.value.before ?? undefined, preview,
})

/** The settings that a change of a route names; fields that are empty leave it as it is. */
function settings(): string[] {
  const f = fields.value
  const all: string[] = []
  const quoted = (text: string) => '[' + list(text).map((one) => JSON.stringify(one)).join(', ') + ']'
  if (f.paths.trim()) all.push('match.path=' + quoted(f.paths))
  if (f.fresh.trim()) all.push('lifetime.fresh=' + f.fresh.trim())
  const names = list(f.query)
  if (names.length === 1 && ['all', 'none'].includes(names[0]!)) all.push('key.query=' + names[0])
  else if (names.length > 0 && names.every((n) => n.startsWith('-'))) all.push('key.query={ except: ' + quoted(names.map((n) => n.slice(1)).join(' ')) + ' }')
  else if (names.length > 0) all.push('key.query={ only: ' + quoted(f.query) + ' }')
  if (f.headers.trim()) all.push('key.headers=' + quoted(f.headers))
  if (f.cookies.trim()) all.push('key.cookies=' + quoted(f.cookies))
  if (f.tags.trim()) all.push('tags=' + quoted(f.tags))
  if (f.like.trim()) all.push('like=' + quoted(f.like))
  return all
}

const ready = computed(() => (props.of ? settings().length > 0 : !!fields.value.name.trim() && list(fields.value.paths).length > 0))

function ask(preview: boolean): Promise<RouteChange> {
  if (!props.of) return api.addRoute(wanted(preview))
  const named = settings()
  return api.setRoute(props.of.name, named.length > 0 ? named : ['name=' + props.of.name], preview)
}

let latest = 0
async function look() {
  const mine = ++latest
  if (!props.of && !ready.value) {
    seen.value = undefined
    trying.wrong.value = ''
    return
  }
  const change = await trying.act(() => ask(true))
  if (mine === latest) seen.value = change
}
let waiting = 0
watch(fields, () => {
  window.clearTimeout(waiting)
  waiting = window.setTimeout(look, 250)
}, { deep: true })
watch(open, (is) => {
  if (!is) return
  fields.value = nothing()
  seen.value = undefined
  saving.wrong.value = ''
  void look()
  void nextTick(() => document.getElementById(props.of ? 'route-paths' : 'route-name')?.focus())
})

async function save() {
  const change = await saving.act(() => ask(false))
  if (!change) return
  open.value = false
  emit('done', change)
}

const times = computed(() => (seen.value?.matched ?? []).reduce((sum, m) => sum + m.times, 0))
const others = computed(() => props.routes.map((r) => ({ label: r.name, value: r.name })))
const texts: { key: keyof Omit<Fields, 'before' | 'name'>; label: string; hint: string }[] = [
  { key: 'paths', label: 'Paths', hint: '/people /staff/{id} /files/{rest...}' },
  { key: 'fresh', label: 'Fresh for', hint: '10m; empty: as the origin says' },
  { key: 'query', label: 'Query', hint: 'all, none, page,sort or -utm_*,-ref' },
  { key: 'headers', label: 'Headers in the key', hint: 'Accept-Language' },
  { key: 'cookies', label: 'Cookies in the key', hint: 'currency' },
  { key: 'tags', label: 'Tags', hint: 'people person:{id}' },
  { key: 'like', label: 'Like', hint: 'a shape of the policy' },
]

// Nothing behind the form is reached by keyboard while it is open.
const page = document.getElementById('app')
watch(open, (is) => {
  if (page) page.inert = is
})
onUnmounted(() => {
  if (page) page.inert = false
})
</script>

<template>
  <NModal v-model:show="open" :auto-focus="false" :trap-focus="false" transform-origin="center">
    <form class="box" role="dialog" :aria-label="of ? `Change ${of.name}` : 'Add a route'" @submit.prevent="save">
      <h2>{{ of ? `Change ${of.name}` : 'Add a route' }}</h2>
      <div class="two">
        <div class="fields">
          <template v-if="!of">
            <label for="route-name">Name</label>
            <NInput v-model:value="fields.name" :input-props="{ id: 'route-name' }" placeholder="people" />
          </template>
          <template v-for="t in texts" :key="t.key">
            <label :for="`route-${t.key}`">{{ t.label }}</label>
            <NInput v-model:value="fields[t.key]" :input-props="{ id: `route-${t.key}` }" :placeholder="of && t.key !== 'fresh' ? 'as it is' : t.hint" />
          </template>
          <template v-if="!of">
            <label for="route-before">Before</label>
            <NSelect v-model:value="fields.before" :options="others" :input-props="{ id: 'route-before' }" clearable placeholder="the last" />
          </template>
        </div>
        <div class="seen" aria-live="polite">
          <div v-if="wrong" class="problem" role="alert">{{ wrong }}</div>
          <template v-else-if="seen">
            <pre id="route-source" class="mono">{{ seen.source }}</pre>
            <p id="route-matched">{{ times }} of the last {{ plural(seen.seen, 'request', 'requests') }} match it<template v-if="seen.touched">; it touches {{ plural(seen.touched, 'entry', 'entries') }} stored here</template>.</p>
            <ul>
              <li v-for="m in seen.matched.slice(0, 8)" :key="m.method + m.url"><span class="mono">{{ m.times }} × {{ m.method }} {{ m.url }}</span> <span class="quiet">{{ m.before ? `route ${m.before} before` : 'passed through before' }}</span></li>
            </ul>
            <p v-for="w in seen.warnings" :key="w" class="quiet">{{ w }}</p>
          </template>
          <p v-else class="quiet">Give it a name and a path; what it would match stands here, and its YAML.</p>
        </div>
      </div>
      <div class="ends">
        <NButton attr-type="button" @click="open = false">Cancel</NButton>
        <NButton id="route-save" type="primary" attr-type="submit" :disabled="!ready || !!wrong" :loading="saving.busy.value">{{ of ? 'Change' : 'Add' }}</NButton>
      </div>
    </form>
  </NModal>
</template>

<style scoped>
.box { width: min(1040px, 94vw); max-height: 92vh; overflow-y: auto; background: var(--panel); border: 1px solid var(--line); padding: 20px 24px; }
h2 { margin: 0 0 12px; font-size: 18px; }
.two { display: grid; grid-template-columns: minmax(320px, 5fr) 6fr; gap: 24px; }
.fields { display: grid; grid-template-columns: auto 1fr; gap: 8px 12px; align-items: center; align-content: start; }
label { font-size: 13px; white-space: nowrap; }
.seen { min-width: 0; }
pre { background: var(--ground); padding: 12px; margin: 0; overflow-x: auto; font-size: 13px; }
ul { list-style: none; margin: 0; padding: 0; font-size: 13px; }
li { overflow-wrap: anywhere; padding: 2px 0; }
.ends { display: flex; justify-content: flex-end; gap: 12px; margin-top: 16px; }
</style>
