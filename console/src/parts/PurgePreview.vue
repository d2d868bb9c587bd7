<script setup lang="ts">
import type { PurgeResult } from '../api'
import { bytes, count, plural } from '../format'
import { byCount } from '../purging'
import { figure, type Column } from './columns'
import DataTable from './DataTable.vue'

// What would go is shown before anything goes.
defineProps<{ preview?: PurgeResult }>()
const columns: Column<[string, number]>[] = [
  { key: 'route', title: 'route', by: ([route]) => route, text: ([route]) => route },
  figure('entries', 'entries', ([, n]) => n, count),
]
</script>

<template>
  <div class="preview" aria-live="polite">
    <h2>What would go</h2>
    <p v-if="!preview" class="quiet">Name something to see which entries would go. Nothing is changed by looking.</p>
    <p v-else-if="preview.matched.entries === 0">Nothing that is stored is named by this.</p>
    <template v-else>
      <p><strong id="would-go">{{ plural(preview.matched.entries, 'entry', 'entries') }}</strong>, {{ bytes(preview.matched.bytes) }}</p>
      <DataTable label="Routes of what would go" :columns="columns" :rows="byCount(preview.matched.routes)" :row-key="([route]) => route" class="narrow" />
      <ul class="mono sample">
        <li v-for="u in (preview.matched.sample ?? []).slice(0, 5)" :key="u" class="url" :title="u">{{ u }}</li>
        <li v-if="preview.matched.entries > 5" class="quiet">and {{ count(preview.matched.entries - 5) }} more</li>
      </ul>
    </template>
  </div>
</template>

<style scoped>
.preview { border-left: 1px solid var(--line); padding-left: 32px; }
.preview p { margin: 8px 0; }
.narrow { max-width: 280px; }
.sample { list-style: none; padding: 0; margin: 8px 0 0; font-size: 12px; }
.url { white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
@media (max-width: 900px) {
  .preview { border-left: 0; padding-left: 0; }
}
</style>
