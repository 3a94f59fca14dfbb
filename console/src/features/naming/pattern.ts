/** A pattern with the place of the caret. */
export interface Typed {
  text: string
  caret: number
}

/** Put a field in where the caret is; inside another field, behind it. */
export function putField({ text, caret }: Typed, field: string): Typed {
  const end = endOfField(text, caret)
  const place = end ?? caret
  const put = `{${field.replace('PREFIX', 'deck')}}`
  return { text: text.slice(0, place) + put + text.slice(place), caret: place + put.length }
}

/** Put the field that the caret is in (or behind) through a filter; null: there is none. */
export function putFilter({ text, caret }: Typed, filter: string): Typed | null {
  const end = endOfField(text, caret) ?? (text.slice(0, caret).lastIndexOf('}') + 1 || null)
  if (end === null) return null
  const put = `|${filter.replace(/ N$/, ' 3')}`
  return { text: text.slice(0, end - 1) + put + text.slice(end - 1), caret: end - 1 + put.length }
}

/** Where the field around the caret ends, behind its brace; null: the caret is in none. */
function endOfField(text: string, caret: number): number | null {
  const start = text.slice(0, caret).lastIndexOf('{')
  if (start < 0 || text.slice(start, caret).includes('}')) return null
  const end = text.indexOf('}', caret)
  return end < 0 ? null : end + 1
}
