import { expect, it } from 'vitest'

import { bars, past } from './idle'

const idle = {
  watched: 10,
  days: [
    { idle_days: 0, devices: 5, held: 0 },
    { idle_days: 29, devices: 1, held: 0 },
    { idle_days: 30, devices: 2, held: 1 },
    { idle_days: 500, devices: 2, held: 0 },
  ],
}

it('counts what is past a window, and what is held of it', () => {
  expect(past(idle, 30)).toEqual({ due: 3, held: 1 })
  expect(past(idle, 31)).toEqual({ due: 2, held: 0 })
  expect(past(idle, 0)).toEqual({ due: 9, held: 1 })
})

it('loses no device from the bars', () => {
  expect(bars(idle, 15, 4)).toEqual([5, 1, 2, 2])
})
