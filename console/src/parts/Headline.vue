<script setup lang="ts">
import { computed } from 'vue'

// A headline figure: large number, small label, the change against the period before,
// and its course as a line.
const props = defineProps<{ label: string; value: string; over: string; change?: string; better?: boolean | null; course?: (number | null)[]; title: string }>()

const line = computed(() => {
  const points = (props.course ?? []).map((y, x) => [x, y] as const).filter((p): p is readonly [number, number] => p[1] !== null)
  if (points.length < 2) return ''
  const highest = Math.max(...points.map((p) => p[1]), 1e-9)
  const last = points[points.length - 1][0] || 1
  return points.map(([x, y], i) => `${i ? 'L' : 'M'}${((x / last) * 96).toFixed(1)} ${(22 - (y / highest) * 20).toFixed(1)}`).join('')
})
</script>

<template>
  <div class="headline" :title="title">
    <div class="label">{{ label }}</div>
    <div class="value">{{ value }}</div>
    <div class="below quiet">{{ change ? `${change} against ${over} before` : over }}</div>
    <svg v-if="line" viewBox="0 0 96 24" preserveAspectRatio="none" aria-hidden="true"><path :d="line" fill="none" stroke="currentColor" stroke-width="1.5" vector-effect="non-scaling-stroke" /></svg>
  </div>
</template>

<style scoped>
.headline { background: var(--panel); border: 1px solid var(--line); padding: 12px 16px; min-width: 0; }
.label { color: var(--quiet); font-size: 13px; }
.value { font-size: 28px; line-height: 1.2; font-variant-numeric: tabular-nums; white-space: nowrap; }
.below { font-size: 12px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
svg { display: block; width: 100%; height: 24px; margin-top: 4px; color: var(--quiet); }
</style>
