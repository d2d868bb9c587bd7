<script setup lang="ts">
import { NButton, NButtonGroup, NInput } from 'naive-ui'
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
      <NButtonGroup size="small">
        <NButton v-for="r in ranges" :key="r.value" :type="since === r.value ? 'primary' : 'default'" :aria-pressed="since === r.value" @click="since = r.value">{{ r.label }}</NButton>
      </NButtonGroup>
      <NInput v-model:value="ownText" size="small" class="own" placeholder="own, 45m" :status="ownWrong ? 'error' : undefined" :input-props="{ 'aria-label': 'Own range, such as 45m', 'aria-invalid': ownWrong }" @change="takeOwn" />
      <span v-if="ownWrong" class="hint" role="alert">write 45m, 3h or 2d</span>
    </div>
  </header>
</template>

<style scoped>
.head { display: flex; flex-wrap: wrap; align-items: center; gap: 8px 16px; margin-bottom: 16px; min-height: 32px; }
.updated { font-size: 13px; font-variant-numeric: tabular-nums; }
.ranges { margin-left: auto; display: flex; align-items: center; flex-wrap: wrap; gap: 8px; }
.own { width: 92px; }
.hint { color: var(--danger); font-size: 13px; }
</style>
