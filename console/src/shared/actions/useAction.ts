import { ref } from 'vue'

import { readAgain } from '../../api/queries'

/** One act at a time: whether it runs, what it failed of; afterwards everything is read anew. */
export function useAction() {
  const busy = ref(false)
  const failure = ref<unknown>(null)

  /** Whether the act succeeded; one that only looks leaves what is shown as it is. */
  async function run(act: () => Promise<unknown>, changes = true): Promise<boolean> {
    busy.value = true
    failure.value = null
    try {
      await act()
      if (changes) await readAgain()
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
