import { expect, test } from 'vitest'

import { LANGUAGES, type Language, languageOf, reason, say } from './words'

test('every language has every word, with the same things in braces', () => {
  for (const language of Object.keys(LANGUAGES) as Language[]) {
    expect(say(language, 'to', { name: 'Wrenmoor' })).toContain('Wrenmoor')
    expect(say(language, 'progress', { done: 3, total: 10 })).toMatch(/3.*10/)
    expect(say(language, 'welcome')).not.toBe('')
  }
})

test('the language is the first that we speak', () => {
  expect(languageOf(['sv-SE', 'de-CH', 'en'])).toBe('de')
  expect(languageOf(['sv'])).toBe('en')
})

test('a reason that is not translated is told in English', () => {
  expect(reason('de', 'flagged', 'This device cannot be used.')).toBe('This device cannot be used.')
  expect(reason('ar', 'quota_reached', 'x')).not.toBe('x')
})
