import { describe, expect, it } from 'vitest'

import { givenTo, lasting, platforms, started, through } from './items'

describe('items in words', () => {
  it('says platforms with the least versions', () => {
    const label = (one: string) => one.toUpperCase()
    expect(platforms({ ios: '15', android: '' }, label)).toBe('ANDROID, IOS 15')
    expect(platforms({}, label)).toBe('all platforms')
  })

  it('says to whom something is given, and through what', () => {
    expect(
      givenTo([
        { cohort: null, word: 'required' },
        { cohort: 'Cadets', word: 'excluded' },
      ]),
    ).toBe('required for everyone, excluded from Cadets')
    expect(givenTo(undefined)).toBe('')
    const one = { kind: 'kit', id: 1, name: 'Deck', cohort: null, word: 'offered' } as const
    expect(through(one)).toBe('kit “Deck”, offered for everyone')
    expect(through({ ...one, kind: 'item' })).toBe('by itself, offered for everyone')
  })

  it('says how long something takes', () => {
    expect([0, 40, 90, 5_000].map(lasting)).toEqual(['1 s', '40 s', '2 min', '1 h 23 min'])
  })

  it('begins each item anew', () => {
    const one = started('network')
    Object.assign(one, { ssid: 'Deck' })
    expect(started('network')).toMatchObject({ ssid: '' })
  })
})
