const day = new Intl.DateTimeFormat('en-GB', {
  year: 'numeric',
  month: 'short',
  day: 'numeric',
  timeZone: 'UTC',
})
const minute = new Intl.DateTimeFormat('en-GB', {
  year: 'numeric',
  month: 'short',
  day: 'numeric',
  hour: '2-digit',
  minute: '2-digit',
  timeZone: 'UTC',
})

export const number = (value: number) => value.toLocaleString('en-GB')
export const onDay = (value: string | null | undefined) =>
  value ? day.format(new Date(value)) : '–'
export const atTime = (value: string | null | undefined) =>
  value ? `${minute.format(new Date(value))} UTC` : '–'
export const words = (value: string) => value.replaceAll('_', ' ')
export const plural = (count: number, word: string) =>
  `${number(count)} ${word}${count === 1 ? '' : 's'}`
/** What people call a device: its name, else what stands on it, else its model. */
export function called(device: {
  id: number
  name?: string | null
  serial?: string | null
  imei?: string | null
  model?: string | null
}): string {
  return (
    device.name ?? device.serial ?? device.imei ?? `${device.model ?? 'device'} no. ${device.id}`
  )
}
/** `12.6 MB`: bytes in the units of the SI. */
export function sized(bytes: number): string {
  const units = ['GB', 'MB', 'kB']
  for (const [at, unit] of units.entries()) {
    const factor = 10 ** (9 - 3 * at)
    if (bytes >= factor) return `${number(Math.round((10 * bytes) / factor) / 10)} ${unit}`
  }
  return plural(bytes, 'byte')
}
export const identifierWord = (kind: string) =>
  kind === 'serial' ? 'serial number' : kind === 'fingerprint' ? kind : kind.toUpperCase()

/** How long ago, in the largest unit that still says something. */
export function age(from: string, now: string): string {
  const minutes = Math.max(0, Math.floor((Date.parse(now) - Date.parse(from)) / 60_000))
  if (minutes < 1) return 'a moment'
  if (minutes < 60) return plural(minutes, 'minute')
  if (minutes < 48 * 60) return plural(Math.floor(minutes / 60), 'hour')
  return plural(Math.floor(minutes / 1440), 'day')
}
