import { expect, test } from 'vitest'

import { inOrder } from './order'

const rows = [
  { name: 'Deck 10', count: 3 },
  { name: 'deck 9', count: null },
  { name: null, count: 20 },
]
const by = (key: 'name' | 'count', descending = false) =>
  inOrder(rows, { key, descending }).map((one) => one[key])

test('words by people, numbers by size, and what is missing last', () => {
  expect(by('name')).toEqual(['deck 9', 'Deck 10', null])
  expect(by('name', true)).toEqual(['Deck 10', 'deck 9', null])
  expect(by('count')).toEqual([3, 20, null])
  expect(by('count', true)).toEqual([20, 3, null])
})
