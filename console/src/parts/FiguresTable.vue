<script setup lang="ts">
import { computed } from 'vue'
import type { RatioReport } from '../api'
import { outcomes } from '../colours'
import { clock, count, percent } from '../format'

// The table behind the charts, for those who cannot see them, and its CSV.
const props = defineProps<{ report: RatioReport }>()
const newestFirst = computed(() => [...props.report.rows].reverse())

function save() {
  const lines = [['time', ...outcomes, 'hit_ratio', 'byte_hit_ratio', 'offload'].join(',')]
  for (const r of props.report.rows) lines.push([r.at, ...outcomes.map((o) => r.outcomes[o] ?? 0), r.hit_ratio ?? '', r.byte_hit_ratio ?? '', r.offload ?? ''].join(','))
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([lines.join('\r\n') + '\r\n'], { type: 'text/csv' }))
  link.download = 'gerastic-ratio.csv'
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <details class="panel">
    <summary>The figures behind the charts</summary>
    <button type="button" class="save" @click="save">Save as CSV</button>
    <div class="scroll tall">
      <table class="table">
        <thead>
          <tr>
            <th scope="col">from</th>
            <th v-for="o in outcomes" :key="o" scope="col" class="number">{{ o }}</th>
            <th scope="col" class="number">hit ratio</th>
            <th scope="col" class="number">byte hit ratio</th>
            <th scope="col" class="number">offload</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in newestFirst" :key="r.at">
            <td>{{ clock(r.at!) }}</td>
            <td v-for="o in outcomes" :key="o" class="number">{{ count(r.outcomes[o] ?? 0) }}</td>
            <td class="number">{{ percent(r.hit_ratio) }}</td>
            <td class="number">{{ percent(r.byte_hit_ratio) }}</td>
            <td class="number">{{ percent(r.offload) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </details>
</template>

<style scoped>
summary { cursor: pointer; }
.tall { max-height: 360px; overflow-y: auto; margin-top: 8px; }
.save { font: inherit; font-size: 13px; margin-top: 8px; background: var(--ground); color: var(--ink); border: 1px solid var(--line); padding: 4px 10px; cursor: pointer; }
</style>
