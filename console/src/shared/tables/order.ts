/** By which key a list is sorted, and which way. */
export interface Order {
  key: string
  descending: boolean
}

const words = new Intl.Collator('en-GB', { numeric: true, sensitivity: 'base' })

/** The rows in order; what is missing comes last either way. */
export function inOrder<T extends object>(items: T[], { key, descending }: Order): T[] {
  const of = (item: T) => (item as Record<string, unknown>)[key]
  const isMissing = (value: unknown) => value === null || value === undefined || value === ''
  return [...items].sort((one, other) => {
    const [a, b] = [of(one), of(other)]
    if (isMissing(a) || isMissing(b)) return Number(isMissing(a)) - Number(isMissing(b))
    const found =
      typeof a === 'number' && typeof b === 'number' ? a - b : words.compare(String(a), String(b))
    return descending ? -found : found
  })
}
