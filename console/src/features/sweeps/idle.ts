import type { Schemas } from '../../api/client'

/** What a window of so many days would take of what is watched. */
export function past(idle: Schemas['Idle'], window: number) {
  let due = 0
  let held = 0
  let left = 0
  for (const day of idle.days) {
    if (day.idle_days < window) continue
    due += day.devices - day.held - day.left
    held += day.held
    left += day.left
  }
  return { due, held, left }
}

/** Bars of so many days each; the last one holds everything beyond. */
export function bars(idle: Schemas['Idle'], width: number, most: number): number[] {
  const found = Array.from({ length: most }, () => 0)
  for (const day of idle.days) {
    const place = Math.min(Math.floor(day.idle_days / width), most - 1)
    found[place]! += day.devices
  }
  return found
}
