import type { Schemas } from '../../api/client'
import { number, onDay, plural } from '../../shared/formats'

type Source = Schemas['SourceDetail']

/** What a source knows, in a few words. */
export function knows(source: Source): string {
  const parts = [
    source.keys ? plural(source.keys, 'public key') : '',
    source.devices ? plural(source.devices, 'device') : '',
    source.people ? `${number(source.people)} people` : '',
    source.groups ? plural(source.groups, 'group') : '',
  ].filter(Boolean)
  return parts.join(', ') || 'nothing yet'
}

/** When what opens a source ends; `late` where that is past or near. */
export function endWords(source: Source): { text: string; late: boolean } {
  const ends = source.secrets.filter((one) => one.ends_at && one.kind !== 'key' && !one.waiting)
  const first = ends.sort((a, b) => (a.days_left ?? 0) - (b.days_left ?? 0))[0]
  if (!first?.ends_at || first.days_left === null) {
    const given = source.secrets.some((one) => !one.waiting && one.kind !== 'key')
    return { text: given ? 'no end' : 'none', late: false }
  }
  const days = first.days_left
  if (days < 0) return { text: `ended ${plural(-days, 'day')} ago`, late: true }
  return { text: `until ${onDay(first.ends_at)}`, late: days < 14 }
}

/** Serial numbers of a list or a CSV file: of the column whose header says so, else all cells. */
export function numbersOf(text: string): string[] {
  const rows = linesOf(text).map((line) =>
    line.split(/[,;\t]/).map((cell) => cell.trim().replace(/^"(.*)"$/, '$1')),
  )
  const place = rows[0]?.findIndex((cell) => /serial|imei/i.test(cell) && !/\d/.test(cell)) ?? -1
  const cells = place < 0 ? rows.flat() : rows.slice(1).map((row) => row[place] ?? '')
  return cells.flatMap((cell) => cell.split(/\s+/)).filter(Boolean)
}

/** Lines of a text field, without blank ones. */
export const linesOf = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)
