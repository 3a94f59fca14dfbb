import { describe, expect, it } from 'vitest'

import type { Schemas } from '../../api/client'
import { answersTo } from './answers'

const lot = { sheet: 'June', sheets: ['June', 'July', 'Prices'] } as Schemas['Lot']
const remark = (code: string, given: string | null = null, column: string | null = null) =>
  ({ code, given, column, severity: 'warn', title: '', remedy: '', rows: 0 }) as Schemas['Remark']

describe('answersTo', () => {
  it('asks for the order of dates', () => {
    const answers = answersTo(remark('date_order_open', '01/02/2025', 'Bought'), lot)
    expect(answers.map((one) => one.settings)).toEqual([
      { dates: { Bought: 'day' } },
      { dates: { Bought: 'month' } },
    ])
  })
  it('takes the order back', () => {
    const [answer] = answersTo(remark('date_by_order', '01/02/2025: day first', 'Bought'), lot)
    expect(answer!.settings).toEqual({ dates: { Bought: 'month' } })
  })
  it('asks whether a maker is another', () => {
    const answers = answersTo(remark('maker_near', 'Kelmer → Kelmar', 'Maker'), lot)
    expect(answers.map((one) => one.settings)).toEqual([
      { makers: { Kelmer: 'Kelmar' } },
      { makers: { Kelmer: null } },
    ])
  })
  it('takes the named sheets together', () => {
    const [answer] = answersTo(remark('other_sheets', 'July (12)'), lot)
    expect(answer!.settings).toEqual({ sheets: ['June', 'July'] })
  })
  it('has nothing to say of most', () => {
    expect(answersTo(remark('mixed_line_ends'), lot)).toEqual([])
  })
})
