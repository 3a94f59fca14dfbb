import { api, got, type Schemas } from '../../api/client'
import { usePreview } from '../../shared/actions/usePreview'

/** Retiring devices and bringing them back by hand. */
export function useTurning() {
  const preview = usePreview()

  function retire(selection: Schemas['Selection'], done?: () => void) {
    const body = { selection }
    void preview.open({
      look: () => got(api.POST('/api/v1/devices/retire/preview', { body })),
      act: (digest, reason) =>
        got(api.POST('/api/v1/devices/retire/apply', { body: { ...body, digest, reason } })),
      done,
    })
  }

  function bringBack(selection: Schemas['Selection'], done?: () => void) {
    const body = { selection }
    void preview.open({
      look: () => got(api.POST('/api/v1/devices/bring-back/preview', { body })),
      act: (digest, reason) =>
        got(api.POST('/api/v1/devices/bring-back/apply', { body: { ...body, digest, reason } })),
      done,
    })
  }

  return { retire, bringBack }
}
