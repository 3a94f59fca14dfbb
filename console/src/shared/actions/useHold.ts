import { shallowReactive } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { usePreview } from './usePreview'

/** What is to be held: devices, all of a person's, or the members of a cohort. */
export type Held = Pick<Schemas['HoldNew'], 'selection' | 'person' | 'cohort'>

const state = shallowReactive({
  held: null as Held | null,
  label: '',
  done: undefined as (() => void) | undefined,
})

/** Keeping something out of sweeps: asked for in one dialog, wherever the need is seen. */
export function useHold() {
  const preview = usePreview()

  function open(held: Held, label: string, done?: () => void) {
    Object.assign(state, { held, label, done })
  }

  function close() {
    state.held = null
  }

  function look(terms: Pick<Schemas['HoldNew'], 'reason' | 'until_on' | 'from_on' | 'owner'>) {
    const body = { ...state.held, ...terms }
    const { done } = state
    close()
    void preview.open({
      look: () => got(api.POST('/api/v1/holds/preview', { body })),
      act: (digest) => got(api.POST('/api/v1/holds/apply', { body: { ...body, digest } })),
      reasoned: true,
      done,
    })
  }

  return { state, open, close, look }
}
