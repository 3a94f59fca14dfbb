import { shallowReactive } from 'vue'

import { type Preview, ProblemError } from '../../api/client'
import { readAgain } from '../../api/queries'
import { useJob } from './useJob'

/** Look, then act: one change from its preview to its applying. */
export interface Change {
  look: () => Promise<Preview>
  act: (
    digest: string,
    reason: string | null,
    preview: Preview,
    confirm: number,
  ) => Promise<unknown>
  done?: () => void
  /** It cannot be taken back: the number of devices is typed before it is done. */
  final?: boolean
  /** The reason was given already. */
  reasoned?: boolean
  /** What to do with lines that are marked: keep these devices out of it. */
  keep?: (ids: number[]) => void
}

const state = shallowReactive({
  change: null as Change | null,
  preview: null as Preview | null,
  error: null as unknown,
  busy: false,
  moved: false,
})
const long = useJob()

export function usePreview() {
  /** Show what was looked at already. */
  function show(change: Change, preview: Preview) {
    Object.assign(state, { change, preview, error: null, moved: false, busy: false })
  }

  async function open(change: Change) {
    Object.assign(state, { change, preview: null, error: null, moved: false, busy: true })
    try {
      state.preview = await change.look()
    } catch (error) {
      state.error = error
    } finally {
      state.busy = false
    }
  }

  async function apply(reason: string, confirm = 0) {
    if (!state.change || !state.preview) return
    Object.assign(state, { busy: true, error: null })
    try {
      await state.change.act(state.preview.digest, reason.trim() || null, state.preview, confirm)
      const { done } = state.change
      close()
      await readAgain()
      done?.()
    } catch (error) {
      // The facts changed meanwhile: the new preview takes the old one's place, to be read first.
      if (error instanceof ProblemError && error.problem.preview)
        Object.assign(state, { preview: error.problem.preview, moved: true })
      else state.error = error
    } finally {
      state.busy = false
    }
  }

  function close() {
    Object.assign(state, { change: null, preview: null, error: null })
  }

  return { state, long: long.state, follow: long.follow, open, show, apply, close }
}
