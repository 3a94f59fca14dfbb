import { useQuery } from '@tanstack/vue-query'

import { send, type Preview } from '../../api/client'
import { useAction } from './useAction'
import { type Change, usePreview } from './usePreview'

interface Kept {
  id: number
  revision: number
}

/** The calls of one kind of document; every change is looked at before it is made. */
export function useDocuments<Document extends object, Detail extends Kept>(path: string) {
  const preview = usePreview()
  const { busy, failure, run, forget } = useAction()
  const at = (key: string | number, rest = '') => `${path}/${encodeURIComponent(key)}${rest}`

  function useList() {
    return useQuery({
      queryKey: [path],
      queryFn: async () => (await send<{ items: Detail[] }>('GET', path)).items,
    })
  }

  /** What is wrong with a document is said where it is written, not in the preview. */
  function looked(change: Change) {
    return run(async () => preview.show(change, await change.look()), false)
  }

  function add(document: Document, done?: (made: Detail) => void) {
    let made: Detail
    return looked({
      look: () => send<Preview>('POST', `${path}/preview`, document),
      act: async (digest, reason) => {
        made = await send<Detail>('POST', path, { ...document, digest, reason })
      },
      done: () => done?.(made),
    })
  }

  function edit(known: Kept, document: Document, done?: () => void) {
    return looked({
      look: () => send<Preview>('POST', at(known.id, '/preview'), document),
      act: (digest, reason) =>
        send<Detail>('PUT', at(known.id), { ...document, digest, reason }, known.revision),
      done,
    })
  }

  function remove(known: Kept, done?: () => void) {
    return preview.open({
      look: () => send<Preview>('POST', at(known.id, '/removal/preview')),
      act: (digest, reason) => {
        const asked = new URLSearchParams({ digest, ...(reason ? { reason } : {}) })
        return send('DELETE', `${at(known.id)}?${asked}`, undefined, known.revision)
      },
      done,
    })
  }

  return { useList, add, edit, remove, busy, failure, forget }
}
