import { describe, expect, it } from 'vitest'

import { asText, both, expected, type Attribute, type Tree } from './filters'

const compared = (attribute: string, value: Tree | string | number) =>
  ({ attribute, operator: 'eq', value }) as Tree

describe('the text of a filter', () => {
  const site = compared('site', 'The "Old" Quay')
  const lot = compared('lot', 3)

  it('quotes texts and leaves numbers bare', () => {
    expect(asText(site)).toBe('site eq "The \\"Old\\" Quay"')
    expect(asText(lot)).toBe('lot eq 3')
  })

  it('says that something is there without a value', () => {
    expect(asText({ attribute: 'imei', operator: 'pr', value: null })).toBe('imei pr')
  })

  it('puts parentheses only where an "or" stands inside an "and"', () => {
    const either: Tree = { join: 'or', parts: [site, lot] }
    const all: Tree = { join: 'and', parts: [lot, site] }
    expect(asText({ join: 'and', parts: [lot, either] })).toBe(
      'lot eq 3 and (site eq "The \\"Old\\" Quay" or lot eq 3)',
    )
    expect(asText({ join: 'or', parts: [lot, all] })).not.toContain('(')
    expect(asText({ not: either })).toMatch(/^not \(.* or .*\)$/)
  })

  it('joins what must hold all at once', () => {
    expect(both(undefined, '')).toBeUndefined()
    expect(both(undefined, 'id pr')).toBe('id pr')
    expect(both('a pr or b pr', 'id pr')).toBe('(a pr or b pr) and (id pr)')
  })
})

describe('what is expected while a filter is typed', () => {
  const platform = { name: 'platform' } as Attribute
  const known = new Map([['platform', platform]])
  const at = (text: string) => expected(text, known)

  it.each([
    ['', 'attribute', ''],
    ['plat', 'attribute', 'plat'],
    ['platform ', 'operator', ''],
    ['platform e', 'operator', 'e'],
    ['platform eq ', 'value', ''],
    ['platform eq "and', 'value', '"and'],
    ['platform eq "android"', 'join', ''],
    ['platform eq "android" ', 'join', ''],
    ['platform pr ', 'join', ''],
    ['platform eq "android" and ', 'attribute', ''],
    ['not (', 'attribute', ''],
    ['(platform eq "x \\" y") ', 'join', ''],
  ])('%j expects %s', (text, what, typed) => {
    expect(at(text)).toMatchObject({ what, typed })
  })

  it('remembers of which attribute a value is wanted', () => {
    expect(at('platform eq ').attribute).toBe(platform)
    expect(at('elsewhere eq ').attribute).toBeNull()
  })
})
