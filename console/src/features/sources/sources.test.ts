import { describe, expect, it } from 'vitest'

import type { Schemas } from '../../api/client'
import { endWords, knows, linesOf, numbersOf } from './sources'

type Source = Schemas['SourceDetail']
const source = (more: Partial<Source>) =>
  ({ devices: 0, people: 0, groups: 0, secrets: [], ...more }) as Source
const token = (days_left: number | null, ends_at: string | null = '2026-01-05T00:00:00Z') =>
  ({ kind: 'token', waiting: false, ends_at, days_left }) as Source['secrets'][number]

describe('a source in words', () => {
  it('says what it knows', () => {
    expect(knows(source({}))).toBe('nothing yet')
    expect(knows(source({ devices: 1, people: 900, groups: 12 }))).toBe(
      '1 device, 900 people, 12 groups',
    )
  })

  it('says when what opens it ends', () => {
    expect(endWords(source({}))).toEqual({ text: 'none', late: false })
    expect(endWords(source({ secrets: [token(-9)] }))).toEqual({
      text: 'ended 9 days ago',
      late: true,
    })
    expect(endWords(source({ secrets: [token(null, null)] })).text).toBe('no end')
    expect(endWords(source({ secrets: [token(200, '2026-08-01T00:00:00Z'), token(3)] }))).toEqual({
      text: 'until 5 Jan 2026',
      late: true,
    })
  })

  it('reads lines', () => {
    expect(linesOf(' a=1 \n\nb=2\n')).toEqual(['a=1', 'b=2'])
  })
})

it('serial numbers of a list, a column, a file', () => {
  expect(numbersOf('A1, B2;C3\nD4 E5')).toEqual(['A1', 'B2', 'C3', 'D4', 'E5'])
  expect(numbersOf('Maker,"Serial no",Site\nKelmar,"KM-1",Quill\nKelmar,KM-2')).toEqual([
    'KM-1',
    'KM-2',
  ])
  expect(numbersOf('  \n')).toEqual([])
})
