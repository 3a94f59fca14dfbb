import { ref } from 'vue'

import { queries } from '../../api/queries'

/** One act at a time: whether it runs, what it failed of; afterwards everything is read anew. */
export function useAction() {
  const busy = ref(false)
  const failure = ref<unknown>(null)

  /** Whether the act succeeded. */
  async function run(act: () => Promise<unknown>): Promise<boolean> {
    busy.value = true
    failure.value = null
    try {
      await act()
      await queries.invalidateQueries()
      return true
    } catch (problem) {
      failure.value = problem
      return false
    } finally {
      busy.value = false
    }
  }

  function forget() {
    failure.value = null
  }

  return { busy, failure, run, forget }
}
