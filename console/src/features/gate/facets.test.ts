import { expect, test } from 'vitest'

import { audience, lines, type Policy, said, silent, stated, valueOf } from './facets'

const policy: Policy = { name: 'Crew', platforms: { android: { open: true } } }
const label = (_: string, word: string) => word

test('a word is stated, read and taken away again', () => {
  const line = { facet: 'versions', platform: 'ios' } as const
  const more = stated(policy, line, { oldest: '15', newest: null })
  expect(valueOf(more, line)).toEqual({ oldest: '15', newest: null })
  expect(stated(more, line, null).platforms).toEqual(policy.platforms)
  expect(valueOf(policy, line)).toBeNull()
})

test.each([
  [{ facet: 'door', platform: 'ios' }, false, 'closed'],
  [{ facet: 'versions', platform: 'ios' }, { oldest: '12', newest: '14' }, 'from 12 up to 14'],
  [{ facet: 'versions', platform: 'ios' }, { oldest: null, newest: null }, 'any'],
  [{ facet: 'makers', platform: 'ios' }, { listed: 'only', names: ['A', 'B'] }, 'only A and B'],
  [{ facet: 'models', platform: 'ios' }, { listed: 'all_but', names: ['A'] }, 'all but A'],
  [{ facet: 'ownerships', platform: null }, [], 'none'],
  [{ facet: 'quota', platform: null }, { devices: 1, ownerships: null }, '1 device'],
  [
    { facet: 'quota', platform: null },
    { devices: 2, ownerships: ['corporate', 'partner'] },
    '2 corporate or partner devices',
  ],
  [{ facet: 'declared_only', platform: null }, true, 'refused'],
] as const)('%o is said', (line, value, words) => {
  expect(said(line, value as never, label)).toBe(words)
})

test('whom a policy holds is said', () => {
  expect(audience(policy)).toBe('everyone')
  expect(audience({ ...policy, groups: ['A', 'B'], devices: 'site eq "X"' })).toBe(
    'people in A or B; devices with site eq "X"',
  )
  expect(audience({ ...policy, groups: [] })).toBe('nobody yet')
})

test('lines that nobody speaks of are left out until asked for', () => {
  const shown = lines([policy], ['android', 'ios'], ['ios makers'])
  expect(
    shown.filter((line) => line.platform).map((line) => `${line.platform} ${line.facet}`),
  ).toEqual(['android door', 'ios door', 'ios makers'])
  expect(silent(shown, 'ios')).toContain('models')
  expect(silent(shown, 'ios')).not.toContain('makers')
})
