/** What the service says of a way to use a voucher is `title: meaning`. */
export function actTitle(words: string): string {
  const title = words.split(':')[0]!
  return title.charAt(0).toUpperCase() + title.slice(1)
}

export const actMeaning = (words: string) => words.split(': ')[1] ?? ''
