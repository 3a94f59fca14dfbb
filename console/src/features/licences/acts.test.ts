import { expect, it } from 'vitest'

import { actMeaning, actTitle } from './acts'

it('tells title and meaning apart', () => {
  expect(actTitle('top up: seats come to those that are there')).toBe('Top up')
  expect(actMeaning('top up: seats come to those that are there')).toBe(
    'seats come to those that are there',
  )
  expect([actTitle('–'), actMeaning('–')]).toEqual(['–', ''])
})
