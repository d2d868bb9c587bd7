// Figures that renew themselves while the page is looked at, and say when they last did.
import { onMounted, onUnmounted, ref, watch, type WatchSource } from 'vue'
import { Problem } from './api'
import { useSession } from './session'

const every = 5000

export function useLive(load: () => Promise<void>, sources: WatchSource[] = []) {
  const updated = ref<Date | null>(null)
  const problem = ref('')
  const session = useSession()
  let timer: number | undefined
  let running = false

  async function renew() {
    if (running || document.hidden) return
    running = true
    try {
      await load()
      updated.value = new Date()
      problem.value = ''
    } catch (e) {
      if (e instanceof Problem && e.status === 401) session.who = null
      problem.value = e instanceof Error ? e.message : String(e)
    } finally {
      running = false
    }
  }
  onMounted(() => {
    void renew()
    timer = window.setInterval(() => void renew(), every)
    document.addEventListener('visibilitychange', renew)
  })
  onUnmounted(() => {
    window.clearInterval(timer)
    document.removeEventListener('visibilitychange', renew)
  })
  if (sources.length > 0) watch(sources, () => void renew())
  return { updated, problem, renew }
}
