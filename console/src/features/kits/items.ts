import type { Schemas } from '../../api/client'

export type Payload = Schemas['ItemDetail']['payload']
export type Kind = Payload['kind'] & string

const STARTS: Record<Kind, Payload> = {
  setting: { kind: 'setting', setting: '', value: '' },
  custom: { kind: 'custom', key: '', type: 'text', value: '' },
  app: { kind: 'app', identifier: '', digest: '', size: 1, address: null },
  document: { kind: 'document', file_name: '', digest: '', size: 1, address: null },
  network: {
    kind: 'network',
    ssid: '',
    security: 'open',
    secret: null,
    hidden: false,
    trusted: false,
  },
  account: {
    kind: 'account',
    service: 'mail',
    server: '',
    port: 993,
    tls: true,
    signs_in_by: 'mail',
  },
  certificate: { kind: 'certificate', pem: '' },
  script: { kind: 'script', platform: 'windows', text: '' },
  firmware: { kind: 'firmware', wanted: '' },
}

/** What an item of a kind begins with. */
export const started = (kind: Kind): Payload => structuredClone(STARTS[kind])

/** `iOS 15, Android`: platforms with the least versions; none are all. */
export function platforms(
  of: Readonly<Record<string, string | undefined>>,
  label: (platform: string) => string,
): string {
  const told = Object.entries(of).map(([one, least]) => `${label(one)} ${least ?? ''}`.trim())
  return told.sort().join(', ') || 'all platforms'
}

const whom = (one: { cohort?: string | null; word?: Schemas['GivenAs'] }) =>
  `${one.word} ${one.word === 'excluded' ? 'from' : 'for'} ${one.cohort ?? 'everyone'}`

/** `required for Deck, excluded from Cadets`: to whom something is given. */
export function givenTo(given: readonly Schemas['Given'][] | undefined): string {
  return (given ?? []).map(whom).join(', ')
}

/** `kit “On board”, required for Ship phones`. */
export function through(one: Schemas['Through']): string {
  const what = one.kind === 'item' ? 'by itself' : `${one.kind} “${one.name}”`
  return `${what}, ${whom(one)}`
}

/** `under a minute`, `4 min`, `1 h 20 min`. */
export function lasting(seconds: number): string {
  if (seconds < 60) return `${Math.max(1, Math.round(seconds))} s`
  const minutes = Math.round(seconds / 60)
  if (minutes < 60) return `${minutes} min`
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`
}
