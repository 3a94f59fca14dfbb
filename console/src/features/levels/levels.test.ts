import { describe, expect, it } from 'vitest'

import type { Schemas } from '../../api/client'
import { mendsOf, sure } from './levels'

const gap = (kind: Schemas['Gap'], near_id: number | null = null) =>
  ({ kind, near_id }) as Schemas['Discrepancy']

describe('what closes disagreements', () => {
  it('offers what fits any of those marked', () => {
    expect(mendsOf([])).toEqual([])
    expect(mendsOf([gap('differs'), gap('unknown')])).toEqual(['take-word', 'take-in'])
    expect(mendsOf([gap('unknown', 4)])).toEqual(['same', 'take-in'])
    expect(mendsOf([gap('alive'), gap('absent')])).toEqual(['retire', 'send'])
    expect(mendsOf([gap('twice')])).toEqual([])
  })

  it('says how sure a near miss is', () => {
    expect(sure(95)).toBe('almost surely (95 %)')
    expect(sure(75)).toBe('probably (75 %)')
    expect(sure(20)).toBe('perhaps (20 %)')
    expect(sure(null)).toBe('')
  })
})
