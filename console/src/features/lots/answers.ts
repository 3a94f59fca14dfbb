import type { Schemas } from '../../api/client'

/** One click that takes a decision back, or gives the answer that is asked for. */
export interface Answer {
  label: string
  settings: Schemas['LotSettings']
}

const parts = (given: string | null) => (given ?? '').split(' → ')

/** What can be answered to a remark on a file or a column. */
export function answersTo(remark: Schemas['Remark'], lot: Schemas['Lot']): Answer[] {
  const column = remark.column ?? ''
  const [spelled, meant] = parts(remark.given)
  const first = (order: 'day' | 'month'): Answer => ({
    label: order === 'day' ? 'The day comes first' : 'The month comes first',
    settings: { dates: { [column]: order } },
  })
  switch (remark.code) {
    case 'date_order_open':
      return [first('day'), first('month')]
    case 'date_by_order':
      return [first(remark.given?.endsWith('day first') ? 'month' : 'day')]
    case 'maker_near':
      return [
        { label: `It is ${meant}`, settings: { makers: { [spelled!]: meant! } } },
        { label: 'A maker of its own', settings: { makers: { [spelled!]: null } } },
      ]
    case 'maker_spelled':
      return [{ label: 'A maker of its own', settings: { makers: { [spelled!]: null } } }]
    case 'other_sheets':
      return [
        {
          label: 'Take them together',
          settings: {
            sheets: lot.sheets.filter(
              (sheet) => sheet === lot.sheet || remark.given?.includes(`${sheet} (`),
            ),
          },
        },
      ]
    case 'column_by_content':
      return [{ label: 'Only a detail', settings: { columns: { [column]: null } } }]
    case 'column_counts':
      return [{ label: 'It is the serial number', settings: { columns: { [column]: 'serial' } } }]
    case 'column_beaten':
      return [
        {
          label: 'Take this column',
          settings: { columns: { [column]: (remark.given ?? '').split(':')[0]! } },
        },
      ]
    default:
      return []
  }
}
