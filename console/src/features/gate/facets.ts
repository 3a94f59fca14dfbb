import type { Schemas } from '../../api/client'
import { onDay } from '../../shared/formats'

export type Policy = Schemas['Policy']
export type Rule = Schemas['PlatformRule']
export type Platform = Schemas['Platform']
export type Facet = Schemas['Facet']

/** Where a facet stands in a policy, or in what it says of a platform. */
const FIELDS = {
  door: 'open',
  versions: 'versions',
  makers: 'makers',
  models: 'models',
  ownerships: 'ownerships',
  declared_only: 'declared_only',
  quota: 'quota',
  sign_in: 'sign_in',
  terms: 'terms',
  returning: 'returning',
} as const
export const GENERAL: Facet[] = [
  'ownerships',
  'declared_only',
  'quota',
  'sign_in',
  'terms',
  'returning',
]
export const OF_A_PLATFORM: Facet[] = ['door', 'versions', 'makers', 'models', ...GENERAL]

/** One line of the matrix: a facet, of one platform or (null) of all. */
export interface Line {
  facet: Facet
  platform: Platform | null
}
export type Value =
  boolean | string | string[] | Schemas['VersionBounds'] | Schemas['Listing'] | Schemas['Quota']

export const keyOf = ({ facet, platform }: Line) => `${platform ?? 'all'} ${facet}`

export function valueOf(policy: Policy, { facet, platform }: Line): Value | null {
  const place = platform ? policy.platforms?.[platform] : policy
  return ((place as Record<string, unknown> | undefined)?.[FIELDS[facet]] as Value) ?? null
}

/** The policy with another word (or, with null, none) on a line. */
export function stated(policy: Policy, line: Line, value: Value | null): Policy {
  const field = FIELDS[line.facet]
  if (!line.platform) return { ...policy, [field]: value }
  const rule = { ...policy.platforms?.[line.platform], [field]: value }
  const platforms = { ...policy.platforms, [line.platform]: rule }
  if (Object.values(rule).every((one) => one === null || one === undefined))
    delete platforms[line.platform]
  return { ...policy, platforms }
}

const listed = (words: readonly string[], joined = 'and') =>
  words.length < 2 ? words.join('') : `${words.slice(0, -1).join(', ')} ${joined} ${words.at(-1)}`

/** What a cell says: `from 12`, `only Kelmar`, `2 corporate devices`. */
export function said(
  line: Line,
  value: Value,
  label: (kind: string, word: string) => string,
): string {
  switch (line.facet) {
    case 'door':
      return value ? 'open' : 'closed'
    case 'versions': {
      const { oldest, newest } = value as Schemas['VersionBounds']
      return (
        [oldest && `from ${oldest}`, newest && `up to ${newest}`].filter(Boolean).join(' ') || 'any'
      )
    }
    case 'makers':
    case 'models': {
      const { listed: how, names } = value as Schemas['Listing']
      return `${how === 'only' ? 'only' : 'all but'} ${listed(names)}`
    }
    case 'ownerships':
      return listed((value as string[]).map((one) => label('ownership', one))) || 'none'
    case 'declared_only':
      return value ? 'refused' : 'may come in'
    case 'quota': {
      const { devices, ownerships } = value as Schemas['Quota']
      const kinds = ownerships?.length
        ? `${listed(
            ownerships.map((one) => label('ownership', one)),
            'or',
          )} `
        : ''
      return `${devices} ${kinds}${devices === 1 ? 'device' : 'devices'}`
    }
    case 'terms':
      return listed(value as string[]) || 'none'
    case 'sign_in':
      return label('sign_in_way', value as string)
    default:
      return label('returning', value as string)
  }
}

/** Whom a policy holds, in a line. */
export function audience(policy: Policy): string {
  if (!policy.groups && !policy.people && !policy.devices) return 'everyone'
  const words = []
  if (policy.groups?.length) words.push(`people in ${listed(policy.groups, 'or')}`)
  if (policy.people?.length) words.push(listed(policy.people, 'or'))
  if (policy.devices) words.push(`devices with ${policy.devices}`)
  const ends = policy.until ? ` until ${onDay(policy.until)}` : ''
  return (words.join('; ') || 'nobody yet') + ends
}

/** The lines that are shown: the door of every platform, what is stated, and what was asked for. */
export function lines(policies: Policy[], platforms: Platform[], asked: string[]): Line[] {
  const shown = (line: Line) =>
    asked.includes(keyOf(line)) || policies.some((policy) => valueOf(policy, line) !== null)
  const found: Line[] = GENERAL.map((facet) => ({ facet, platform: null }))
  for (const platform of platforms)
    for (const facet of OF_A_PLATFORM) {
      const line = { facet, platform }
      if (facet === 'door' || shown(line)) found.push(line)
    }
  return found
}

/** Facets of a platform that nobody speaks of yet. */
export const silent = (shown: Line[], platform: Platform): Facet[] =>
  OF_A_PLATFORM.filter(
    (facet) => !shown.some((line) => line.platform === platform && line.facet === facet),
  )
