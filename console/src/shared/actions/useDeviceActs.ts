import { api, got, type Preview, type Schemas } from '../../api/client'
import { type Change, usePreview } from './usePreview'

export type Selection = Schemas['Selection']
type Act = (digest: string, reason: string | null, confirm: number) => Promise<Preview | unknown>

/** What can be done with devices, one or many: each is looked at, done as one entry, taken back. */
export function useDeviceActs() {
  const preview = usePreview()
  const open = (look: () => Promise<Preview>, act: Act, more: Partial<Change>) =>
    void preview.open({
      look,
      act: (digest, reason, _, confirm) => act(digest, reason, confirm),
      ...more,
    })

  function declare(selection: Selection, ownership: Schemas['Ownership'], done?: () => void) {
    const body = { selection, ownership }
    open(
      () => got(api.POST('/api/v1/devices/declare/preview', { body })),
      (digest, reason) =>
        got(api.POST('/api/v1/devices/declare/apply', { body: { ...body, digest, reason } })),
      { done },
    )
  }

  /** To a person, or (null) to nobody. */
  function give(selection: Selection, person: string | null, done?: () => void) {
    const body = { selection, person }
    open(
      () => got(api.POST('/api/v1/devices/give/preview', { body })),
      (digest, reason) =>
        got(api.POST('/api/v1/devices/give/apply', { body: { ...body, digest, reason } })),
      { done },
    )
  }

  function name(selection: Selection, done?: () => void) {
    const body = { selection }
    open(
      () => got(api.POST('/api/v1/naming/preview', { body })),
      (digest, reason) =>
        got(api.POST('/api/v1/naming/apply', { body: { ...body, digest, reason } })),
      { done },
    )
  }

  /** Into a list, or out of it. */
  function put(selection: Selection, list: string, putIn: boolean, done?: () => void) {
    const params = { path: { key: list } }
    const body = { selection, put_in: putIn }
    open(
      () => got(api.POST('/api/v1/cohorts/{key}/devices/preview', { params, body })),
      (digest, reason) =>
        got(
          api.POST('/api/v1/cohorts/{key}/devices/apply', {
            params,
            body: { ...body, digest, reason },
          }),
        ),
      { done },
    )
  }

  /** A setup sheet given by hand, or cleared. */
  function hand(selection: Selection, sheet: string, clear: boolean, done?: () => void) {
    const body = { sheet, selection, clear }
    open(
      () => got(api.POST('/api/v1/sheet-handings/preview', { body })),
      (digest, reason) =>
        got(api.POST('/api/v1/sheet-handings/apply', { body: { ...body, digest, reason } })),
      { done },
    )
  }

  function report(selection: Selection, flag: 'missing' | 'stolen' | null, done?: () => void) {
    const body = { selection, flag }
    open(
      () => got(api.POST('/api/v1/devices/report/preview', { body })),
      (digest, reason) =>
        got(api.POST('/api/v1/devices/report/apply', { body: { ...body, digest, reason } })),
      { done },
    )
  }

  function retire(selection: Selection, done?: () => void) {
    const body = { selection }
    open(
      () => got(api.POST('/api/v1/devices/retire/preview', { body })),
      (digest, reason) =>
        got(api.POST('/api/v1/devices/retire/apply', { body: { ...body, digest, reason } })),
      { done },
    )
  }

  function bringBack(selection: Selection, done?: () => void) {
    const body = { selection }
    open(
      () => got(api.POST('/api/v1/devices/bring-back/preview', { body })),
      (digest, reason) =>
        got(api.POST('/api/v1/devices/bring-back/apply', { body: { ...body, digest, reason } })),
      { done },
    )
  }

  function erase(selection: Selection, done?: () => void) {
    const body = { selection }
    open(
      () => got(api.POST('/api/v1/devices/erase/preview', { body })),
      (digest, reason, confirm) =>
        got(
          api.POST('/api/v1/devices/erase/apply', { body: { ...body, digest, reason, confirm } }),
        ),
      { done, final: true },
    )
  }

  return { declare, give, name, put, hand, report, retire, bringBack, erase }
}
