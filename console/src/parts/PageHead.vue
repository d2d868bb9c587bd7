<script setup lang="ts">
import { ref } from 'vue'
import { clock } from '../format'
import { ranges, readRange, useRange } from '../range'

defineProps<{ title: string; updated: Date | null; ranged?: boolean }>()
const { since } = useRange()
const ownText = ref('')
const ownWrong = ref(false)

function takeOwn() {
  if (!ownText.value) return
  const value = readRange(ownText.value)
  ownWrong.value = !value
  if (value) since.value = value
}
</script>

<template>
  <header class="head">
    <h1>{{ title }}</h1>
    <span class="quiet updated" aria-live="off">{{ updated ? `updated ${clock(updated)}` : 'loading' }}</span>
    <div v-if="ranged" class="ranges" role="group" aria-label="Time range">
      <button v-for="r in ranges" :key="r.value" type="button" :aria-pressed="since === r.value" @click="since = r.value">{{ r.label }}</button>
      <input v-model="ownText" aria-label="Own range, such as 45m" placeholder="own, 45m" :class="{ wrong: ownWrong }" :aria-invalid="ownWrong" @change="takeOwn" @keyup.enter="takeOwn" />
      <span v-if="ownWrong" class="hint" role="alert">write 45m, 3h or 2d</span>
    </div>
  </header>
</template>

<style scoped>
.head { display: flex; flex-wrap: wrap; align-items: center; gap: 8px 16px; margin-bottom: 16px; min-height: 32px; }
.updated { font-size: 13px; font-variant-numeric: tabular-nums; }
.ranges { margin-left: auto; display: flex; align-items: center; flex-wrap: wrap; }
.ranges button, .ranges input { font: inherit; font-size: 13px; height: 28px; padding: 0 10px; border: 1px solid var(--line); margin-left: -1px; background: var(--panel); color: var(--ink); cursor: pointer; }
.ranges button[aria-pressed='true'] { background: var(--accent); color: var(--ground); border-color: var(--accent); }
.ranges input { width: 84px; cursor: text; }
.ranges input::placeholder { color: var(--quiet); opacity: 1; }
.ranges input.wrong { border-color: var(--danger); }
.hint { color: var(--danger); font-size: 13px; padding-left: 8px; }
</style>
