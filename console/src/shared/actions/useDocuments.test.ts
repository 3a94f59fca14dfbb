import { expect, it, vi } from 'vitest'

import { send } from '../../api/client'
import { useDocuments } from './useDocuments'
import { usePreview } from './usePreview'

vi.mock(import('../../api/client'), async (whole) => ({ ...(await whole()), send: vi.fn() }))

it('previews a change and sends it with the digest and the revision that were read', async () => {
  vi.mocked(send).mockImplementation(async (_, path) =>
    path.endsWith('/preview') ? { digest: 'd3' } : { id: 7 },
  )
  const { edit, remove } = useDocuments<{ name: string }, { id: number; revision: number }>(
    '/pools',
  )
  await edit({ id: 7, revision: 4 }, { name: 'Signage' })
  await usePreview().apply('more screens')
  await remove({ id: 7, revision: 5 })
  await usePreview().apply('')
  expect(vi.mocked(send).mock.calls).toEqual([
    ['POST', '/pools/7/preview', { name: 'Signage' }],
    ['PUT', '/pools/7', { name: 'Signage', digest: 'd3', reason: 'more screens' }, 4],
    ['POST', '/pools/7/removal/preview'],
    ['DELETE', '/pools/7?digest=d3', undefined, 5],
  ])
})
