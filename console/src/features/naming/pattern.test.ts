import { describe, expect, it } from 'vitest'

import { putField, putFilter } from './pattern'

/** The caret stands where the bar is. */
const typed = (marked: string) => ({ text: marked.replace('¦', ''), caret: marked.indexOf('¦') })
const shown = (found: { text: string; caret: number } | null) =>
  found && `${found.text.slice(0, found.caret)}¦${found.text.slice(found.caret)}`

describe('fields put in by clicking', () => {
  it.each([
    ['DECK-¦', 'DECK-{n}¦'],
    ['¦-X', '{n}¦-X'],
    ['{si¦te}-X', '{site}{n}¦-X'],
    ['{site}¦', '{site}{n}¦'],
    ['{si¦te', '{si{n}¦te'],
  ])('%s becomes %s', (before, after) => {
    expect(shown(putField(typed(before), 'n'))).toBe(after)
  })

  it('shows what a tag is named by', () => {
    expect(shown(putField(typed('¦'), 'tag.PREFIX'))).toBe('{tag.deck}¦')
  })
})

describe('filters put in by clicking', () => {
  it.each([
    ['{site}¦', '{site|upper¦}'],
    ['{si¦te}-X', '{site|upper¦}-X'],
    ['{site|first 3}-{n}-¦', '{site|first 3}-{n|upper¦}-'],
    ['{site|lower¦}', '{site|lower|upper¦}'],
  ])('%s becomes %s', (before, after) => {
    expect(shown(putFilter(typed(before), 'upper'))).toBe(after)
  })

  it('needs a field, and a number where the filter has one', () => {
    expect(putFilter(typed('DECK¦'), 'upper')).toBeNull()
    expect(putFilter(typed('¦{n}'), 'upper')).toBeNull()
    expect(shown(putFilter(typed('{n}¦'), 'pad N'))).toBe('{n|pad 3¦}')
  })
})
