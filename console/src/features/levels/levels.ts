import type { Schemas } from '../../api/client'

type Gap = Schemas['Discrepancy']

/** What can close each of the marked disagreements, in the order in which it is offered. */
export function mendsOf(gaps: Gap[]): Schemas['Mend'][] {
  const found = new Set<Schemas['Mend']>()
  for (const gap of gaps) {
    if (gap.kind === 'differs') found.add('take-word')
    if (gap.kind === 'unknown') {
      if (gap.near_id !== null) found.add('same')
      found.add('take-in')
    }
    if (gap.kind === 'absent') {
      found.add('retire')
      found.add('send')
    }
    if (gap.kind === 'alive') found.add('send')
  }
  return (['take-word', 'same', 'take-in', 'retire', 'send'] as const).filter((one) =>
    found.has(one),
  )
}

/** How sure it is that two numbers are one. */
export function sure(percent: number | null | undefined): string {
  if (!percent) return ''
  if (percent >= 90) return `almost surely (${percent} %)`
  return percent >= 60 ? `probably (${percent} %)` : `perhaps (${percent} %)`
}
