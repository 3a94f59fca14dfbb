import { shallowReactive } from 'vue'

import { api, got } from '../../api/client'
import { usePreview } from './usePreview'

/** What was done last, and the journal entry that is its way back. */
const state = shallowReactive({ entry: null as number | null, summary: '', operation: '' })

export function useTrail() {
  const preview = usePreview()

  /** A change was made: the service names its entry. */
  async function note(entry: number) {
    const found = await got(
      api.GET('/api/v1/journal/{entry_id}', { params: { path: { entry_id: entry } } }),
    ).catch(() => null)
    if (found) Object.assign(state, { entry, summary: found.summary, operation: found.operation })
  }

  function forget() {
    state.entry = null
  }

  /** Take an entry back: looked at first, as every change. */
  function takeBack(entry: number, done?: () => void) {
    const params = { path: { entry_id: entry } }
    void preview.open({
      look: () => got(api.POST('/api/v1/journal/{entry_id}/revert/preview', { params })),
      act: (digest, reason) =>
        got(api.POST('/api/v1/journal/{entry_id}/revert', { params, body: { digest, reason } })),
      done,
    })
  }

  return { state, note, forget, takeBack }
}
