<script setup lang="ts">
import { NAutoComplete, NButton, NCheckbox, NInput, NRadio, NRadioGroup, NTag } from 'naive-ui'
import { computed, nextTick, ref, watch } from 'vue'
import { useAction } from '../action'
import { api, type PurgeResult, type Tag } from '../api'
import { plural, time } from '../format'
import { kinds, request, spelledOut, type Draft } from '../purging'

// Writes an order, name by name, and carries it out.
const props = defineProps<{ preview?: PurgeResult; problem: string }>()
const draft = defineModel<Draft>({ required: true })
const emit = defineEmits<{ done: [] }>()
const typed = ref('')
const known = ref<Tag[]>([])
const done = ref('')
const naming = useAction()
const carrying = useAction()
const busy = carrying.busy
const wrong = computed(() => carrying.wrong.value || naming.wrong.value || props.problem)

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
    .filter((t) => t.tag.startsWith(typed.value) && !draft.value.names.includes(t.tag))
    .map((t) => ({ label: `${t.tag}   ${plural(t.entries, 'entry', 'entries')}`, value: t.tag })),
)
watch(
  () => draft.value.kind,
  () => {
    draft.value.names = []
    typed.value = ''
    done.value = ''
  },
)

async function add(written: string) {
  const name = written.trim()
  const starred = draft.value.kind === 'tags' && name.includes('*')
  const names = (await naming.act(async () => (starred ? await spelledOut(name) : [name]))) ?? []
  for (const n of names) if (n && !draft.value.names.includes(n)) draft.value.names.push(n)
  done.value = ''
  // The library writes what was selected into the field after this.
  window.setTimeout(() => (typed.value = ''))
}

async function carryOut() {
  const r = await carrying.act(() => api.purge(request(draft.value, false)))
  if (!r) return
  draft.value = { ...draft.value, kind: draft.value.kind === 'all' ? 'tags' : draft.value.kind, names: [], reason: '' }
  await nextTick() // another kind forgets what was done before
  const verb = r.mode === 'stale' ? 'marked stale' : 'dropped'
  done.value = `Purge ${r.sequence}: ${plural(r.matched.entries, 'entry', 'entries')} ${verb}, ${r.nodes.map((n) => (n.applied ? `in force on ${n.node} after ${time(n.took_ms)}` : `not yet on ${n.node}`)).join(', ')}.`
  emit('done')
}

const button = computed(() => {
  if (!props.preview) return 'Name something first'
  const n = plural(props.preview.matched.entries, 'entry', 'entries')
  return draft.value.mode === 'stale' ? `Mark ${n} stale` : `Drop ${n}`
})
</script>

<template>
  <div class="form">
    <NRadioGroup v-model:value="draft.kind" aria-label="What to name" class="kinds">
      <NRadio v-for="(k, name) in kinds" :key="name" :value="name">{{ k.label }}</NRadio>
    </NRadioGroup>
    <label v-if="draft.kind !== 'all'" for="tag">{{ draft.kind === 'tags' ? `Tags: entries that carry ${draft.together ? 'all' : 'any'} of these` : kinds[draft.kind].label }}</label>
    <NInput v-if="draft.kind !== 'all' && draft.kind !== 'tags'" v-model:value="typed" :input-props="{ id: 'tag' }" :placeholder="kinds[draft.kind].hint" @keydown.enter.prevent="add(typed)" @blur="add(typed)" />
    <NAutoComplete v-if="draft.kind === 'tags'" v-model:value="typed" :options="suggestions" :get-show="() => true" :input-props="{ id: 'tag' }" :placeholder="kinds.tags.hint" blur-after-select clear-after-select @select="(v: string | number) => add(String(v))" @keydown.enter.prevent="add(typed)" />
    <div v-if="draft.names.length" class="chosen">
      <NTag v-for="t in draft.names" :key="t" closable class="mono" @close="draft.names = draft.names.filter((x) => x !== t)">{{ t }}</NTag>
    </div>
    <NCheckbox v-if="draft.kind === 'tags' && draft.names.length > 1" v-model:checked="draft.together">Only entries that carry all of them</NCheckbox>
    <NRadioGroup v-model:value="draft.mode" aria-label="What happens to them" class="modes">
      <NRadio value="drop">Drop: never used again</NRadio>
      <NRadio value="stale">Mark stale: revalidated before use, still served while that runs</NRadio>
    </NRadioGroup>
    <label for="reason">Reason, for those who read the ledger</label>
    <NInput v-model:value="draft.reason" :input-props="{ id: 'reason' }" placeholder="pier closed until noon" maxlength="500" />
    <div>
      <NButton id="carry-out" type="error" :disabled="!preview || preview.matched.entries === 0" :loading="busy" @click="carryOut">{{ button }}</NButton>
    </div>
    <p v-if="done" id="done" role="status">{{ done }}</p>
    <p v-if="wrong" class="wrong" role="alert">{{ wrong }}</p>
  </div>
</template>

<style scoped>
.form { display: grid; gap: 8px; align-content: start; }
.form label { font-size: 13px; color: var(--quiet); }
.chosen { display: flex; flex-wrap: wrap; gap: 8px; }
.kinds { display: flex; flex-wrap: wrap; gap: 4px 8px; }
.modes { display: grid; gap: 4px; margin: 8px 0; }
p { margin: 0; }
</style>
