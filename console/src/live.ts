// Figures that renew themselves while the page is looked at, and say when they last did.
import { onMounted, onUnmounted, ref, shallowRef, watch, type WatchSource } from 'vue'
import { useWords } from './action'

const every = 5000

/**
 * Loads again whenever it is asked to. Who asks while an answer is on its way gets a later
 * one: the answer to an older question is never taken.
 */
export function newest<T>(load: () => Promise<T>, take: (answer: T) => void, fail: (e: unknown) => void) {
  let asked = 0
  let under: Promise<void> | undefined

  async function rounds() {
    for (let round = 0; round !== asked; ) {
      round = asked
      try {
        const answer = await load()
        if (round === asked) take(answer)
      } catch (e) {
        if (round === asked) fail(e)
      }
    }
  }
  /** Resolves when the answer to this question, or to a later one, was taken. */
  function ask(): Promise<void> {
    asked++
    under ??= rounds().finally(() => (under = undefined))
    return under
  }
  return { ask, waiting: () => under !== undefined }
}

/** Loads now, every 5 s while the page is seen, and when one of the sources changes. */
export function useLive<T>(load: () => Promise<T>, sources: WatchSource[] = []) {
  const data = shallowRef<T>()
  const updated = ref<Date | null>(null)
  const problem = ref('')
  const words = useWords()
  let timer: number | undefined
  const figures = newest(
    load,
    (answer) => {
      data.value = answer
      updated.value = new Date()
      problem.value = ''
    },
    (e) => (problem.value = words(e)),
  )
  const tick = () => {
    if (!document.hidden && !figures.waiting()) void figures.ask()
  }
  onMounted(() => {
    void figures.ask()
    timer = window.setInterval(tick, every)
    document.addEventListener('visibilitychange', tick)
  })
  onUnmounted(() => {
    window.clearInterval(timer)
    document.removeEventListener('visibilitychange', tick)
  })
  if (sources.length > 0) watch(sources, () => void figures.ask())
  return { data, updated, problem, renew: figures.ask }
}
