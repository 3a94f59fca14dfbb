import { describe, expect, it } from 'vitest'

import { age, atTime, identifierWord, number, onDay, plural } from './formats'

describe('numbers and words', () => {
  it('groups thousands and knows one from many', () => {
    expect(number(1234567)).toBe('1,234,567')
    expect([plural(0, 'device'), plural(1, 'device'), plural(2400, 'device')]).toEqual([
      '0 devices',
      '1 device',
      '2,400 devices',
    ])
  })

  it('says identifiers as people do', () => {
    expect(['serial', 'imei', 'fingerprint'].map(identifierWord)).toEqual([
      'serial number',
      'IMEI',
      'fingerprint',
    ])
  })
})

describe('times', () => {
  it('are in UTC whatever the browser thinks', () => {
    expect(atTime('2026-01-17T23:59:00Z')).toBe('17 Jan 2026, 23:59 UTC')
    expect(onDay('2026-01-17T23:59:00Z')).toBe('17 Jan 2026')
    expect([atTime(null), onDay(undefined)]).toEqual(['–', '–'])
  })

  it.each([
    ['2026-01-17T08:59:30Z', 'a moment'],
    ['2026-01-17T08:59:00Z', '1 minute'],
    ['2026-01-15T09:01:00Z', '47 hours'],
    ['2026-01-14T09:00:00Z', '3 days'],
    ['2026-01-18T09:00:00Z', 'a moment'],
  ])('from %s it is %s', (from, said) => {
    expect(age(from, '2026-01-17T09:00:00Z')).toBe(said)
  })
})
