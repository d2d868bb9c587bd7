// Something that a user asked for: whether it still runs, and what went wrong, in words.
import { ref } from 'vue'
import { Problem } from './api'
import { useSession } from './session'

/** What an error says; one that says the session is over ends it. */
export function useWords() {
  const session = useSession()
  return (e: unknown): string => {
    if (e instanceof Problem && e.status === 401) session.who = null
    return e instanceof Error ? e.message : String(e)
  }
}

/** failed is told of what went wrong as well, where a page has no place for it. */
export function useAction(failed?: (words: string) => void) {
  const words = useWords()
  const busy = ref(false)
  const wrong = ref('')

  /** Runs work; the answer is undefined if it failed. */
  async function act<T>(work: () => Promise<T>): Promise<T | undefined> {
    busy.value = true
    wrong.value = ''
    try {
      return await work()
    } catch (e) {
      wrong.value = words(e)
      failed?.(wrong.value)
    } finally {
      busy.value = false
    }
  }
  return { busy, wrong, act }
}
