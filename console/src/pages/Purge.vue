<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { useAction } from '../action'
import { api, type PurgeResult } from '../api'
import { useLive } from '../live'
import OnwardTable from '../parts/OnwardTable.vue'
import PageHead from '../parts/PageHead.vue'
import PurgeForm from '../parts/PurgeForm.vue'
import PurgeHistory from '../parts/PurgeHistory.vue'
import PurgePreview from '../parts/PurgePreview.vue'
import { request, type Draft } from '../purging'
import { useSession } from '../session'

const session = useSession()
const place = useRoute()
const draft = ref<Draft>({ kind: 'tags', names: [], together: false, mode: 'drop', reason: '' })
const preview = ref<PurgeResult>()
const { wrong, act } = useAction()
const { data, updated, problem, renew } = useLive(async () => {
  const [purges, targets] = await Promise.all([api.purges(30), api.onward()])
  return { purges, targets }
})

// A link from elsewhere names a tag.
watch(
  () => place.query.tag,
  (tag) => {
    if (tag && draft.value.kind === 'tags' && !draft.value.names.includes(String(tag))) draft.value.names.push(String(tag))
  },
  { immediate: true },
)

// The reason changes nothing of what would go.
const asked = computed(() => {
  const named = draft.value.kind === 'all' || draft.value.names.length > 0
  return named && session.may('purge') ? JSON.stringify(request(draft.value, true)) : ''
})
watch(
  asked,
  async (order) => {
    preview.value = undefined
    if (!order) return
    const answer = await act(() => api.purge(request(draft.value, true)))
    if (order === asked.value) preview.value = answer
  },
  { immediate: true },
)
</script>

<template>
  <PageHead title="Purge" :updated="updated" />
  <div v-if="problem" class="problem" role="alert">{{ problem }}</div>

  <p v-if="!session.may('purge')" class="panel">Your token may not purge. Make one that may: <code>gerastic token create --name NAME --rights read,purge</code></p>
  <section v-else class="panel order">
    <PurgeForm v-model="draft" :preview="preview" :problem="wrong" @done="renew" />
    <PurgePreview :preview="preview" />
  </section>

  <section v-if="data?.targets.length" class="panel">
    <h2>Told onward</h2>
    <OnwardTable :targets="data.targets" />
  </section>

  <section id="history" class="panel">
    <h2>History</h2>
    <PurgeHistory :purges="data?.purges ?? []" :asked="updated !== null" />
  </section>
</template>

<style scoped>
.order { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 32px; }
@media (max-width: 900px) {
  .order { grid-template-columns: 1fr; }
}
</style>
