import { expect, it } from 'vitest'

import { bars, past } from './idle'

const idle = {
  watched: 10,
  days: [
    { idle_days: 0, devices: 5, held: 0, left: 0 },
    { idle_days: 29, devices: 1, held: 0, left: 0 },
    { idle_days: 30, devices: 2, held: 1, left: 0 },
    { idle_days: 500, devices: 2, held: 0, left: 1 },
  ],
}

it('counts what is past a window, what is held of it, and what another rule keeps', () => {
  expect(past(idle, 30)).toEqual({ due: 2, held: 1, left: 1 })
  expect(past(idle, 31)).toEqual({ due: 1, held: 0, left: 1 })
  expect(past(idle, 0)).toEqual({ due: 8, held: 1, left: 1 })
})

it('loses no device from the bars', () => {
  expect(bars(idle, 15, 4)).toEqual([5, 1, 2, 2])
})
