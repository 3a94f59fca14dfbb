import { api, got, type Schemas } from '../../api/client'
import { usePreview } from '../../shared/actions/usePreview'

/** Retiring devices, bringing them back and erasing them by hand. */
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

  function erase(selection: Schemas['Selection'], done?: () => void) {
    const body = { selection }
    void preview.open({
      look: () => got(api.POST('/api/v1/devices/erase/preview', { body })),
      act: (digest, reason, _, confirm) =>
        got(
          api.POST('/api/v1/devices/erase/apply', { body: { ...body, digest, reason, confirm } }),
        ),
      final: true,
      done,
    })
  }

  function report(
    selection: Schemas['Selection'],
    flag: 'missing' | 'stolen' | null,
    done?: () => void,
  ) {
    const body = { selection, flag }
    void preview.open({
      look: () => got(api.POST('/api/v1/devices/report/preview', { body })),
      act: (digest, reason) =>
        got(api.POST('/api/v1/devices/report/apply', { body: { ...body, digest, reason } })),
      done,
    })
  }

  return { retire, bringBack, erase, report }
}
