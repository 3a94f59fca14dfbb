import { beforeEach, describe, expect, it, vi } from 'vitest'

import { type Preview, type Problem, ProblemError } from '../../api/client'
import { queries } from '../../api/queries'
import { useAction } from './useAction'
import { usePreview } from './usePreview'

const shown = (digest: string) => ({ digest, title: 'Add the pool' }) as Preview
const refused = (more: Partial<Problem>) =>
  new ProblemError({ detail: 'no', remedy: '', code: 'x', ...more } as Problem)

beforeEach(() => {
  vi.restoreAllMocks()
  usePreview().close()
})

describe('one act', () => {
  it('is busy while it runs and reads everything anew afterwards', async () => {
    const anew = vi.spyOn(queries, 'invalidateQueries').mockResolvedValue()
    const { run, busy, failure } = useAction()
    const running = run(async () => expect(busy.value).toBe(true))
    expect(await running).toBe(true)
    expect([busy.value, failure.value]).toEqual([false, null])
    expect(anew).toHaveBeenCalledOnce()
  })

  it('keeps what it failed of until the next one', async () => {
    const { run, failure, forget } = useAction()
    const problem = refused({})
    expect(await run(() => Promise.reject(problem))).toBe(false)
    expect(failure.value).toEqual(problem)
    forget()
    expect(failure.value).toBeNull()
  })
})

describe('look, then act', () => {
  it('applies with the digest that was looked at, and the reason without blanks', async () => {
    const { open, apply, state } = usePreview()
    const act = vi.fn().mockResolvedValue(undefined)
    const done = vi.fn()
    await open({ look: async () => shown('d1'), act, done })
    expect(state.preview?.digest).toBe('d1')
    await apply('  new season ')
    expect(act).toHaveBeenCalledWith('d1', 'new season', shown('d1'), 0)
    expect(done).toHaveBeenCalledOnce()
    expect(state.change).toBeNull()
  })

  it('shows the new preview where the facts changed meanwhile', async () => {
    const { open, apply, state } = usePreview()
    const act = vi.fn().mockRejectedValueOnce(refused({ preview: shown('d2') }))
    await open({ look: async () => shown('d1'), act })
    await apply('')
    expect([state.moved, state.preview?.digest]).toEqual([true, 'd2'])
    act.mockResolvedValueOnce(undefined)
    await apply('')
    expect(act).toHaveBeenLastCalledWith('d2', null, shown('d2'), 0)
  })

  it('says why it could not be looked at', async () => {
    const { open, state } = usePreview()
    const problem = refused({})
    await open({ look: () => Promise.reject(problem), act: vi.fn() })
    expect([state.error, state.preview, state.busy]).toEqual([problem, null, false])
  })
})
