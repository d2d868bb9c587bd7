// The time range of all pages. It lives in the URL, so that a view can be sent to a colleague.
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

export const ranges = [
  { value: '15m', label: '15 min', seconds: 900 },
  { value: '1h', label: '1 h', seconds: 3600 },
  { value: '6h', label: '6 h', seconds: 6 * 3600 },
  { value: '1d', label: '1 d', seconds: 86400 },
  { value: '7d', label: '7 d', seconds: 7 * 86400 },
]

const own = /^(\d+)(m|h|d)$/

export function secondsOf(since: string): number {
  const known = ranges.find((r) => r.value === since)
  if (known) return known.seconds
  const [, n, unit] = own.exec(since) ?? ['', '1', 'h']
  return Number(n) * { m: 60, h: 3600, d: 86400 }[unit as 'm' | 'h' | 'd']
}

export function useRange() {
  const route = useRoute()
  const router = useRouter()
  const since = computed({
    get: () => {
      const asked = String(route.query.since ?? '1h')
      return own.test(asked) ? asked : '1h'
    },
    set: (value: string) => void router.replace({ query: { ...route.query, since: value } }),
  })
  const label = computed(() => ranges.find((r) => r.value === since.value)?.label ?? since.value)
  return { since, label, seconds: computed(() => secondsOf(since.value)) }
}

/** Reads an own range such as "45m"; undefined if it is not one. */
export function readRange(text: string): string | undefined {
  const compact = text.trim().replaceAll(' ', '').replace('min', 'm')
  return own.test(compact) && Number.parseInt(compact) > 0 && secondsOf(compact) <= 90 * 86400 ? compact : undefined
}
