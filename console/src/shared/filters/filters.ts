import { useQuery } from '@tanstack/vue-query'

import { api, listed, type Schemas } from '../../api/client'

export type Attribute = Schemas['Attribute']
export interface Compared {
  attribute: string
  operator: string
  value: string | number | boolean | null
}
export interface Joined {
  join: 'and' | 'or'
  parts: Tree[]
}
export interface Negated {
  not: Tree
}
/** A filter as an editor holds it; the service reads text into it. */
export type Tree = Compared | Joined | Negated

export const isJoined = (tree: Tree): tree is Joined => 'join' in tree
export const isNegated = (tree: Tree): tree is Negated => 'not' in tree

/** The text of a tree; `and` binds closer, so only an `or` inside an `and` takes parentheses. */
export function asText(tree: Tree): string {
  if (isNegated(tree)) return `not (${asText(tree.not)})`
  if (isJoined(tree)) {
    return tree.parts
      .map((part) =>
        isJoined(part) && part.join !== tree.join && tree.join === 'and'
          ? `(${asText(part)})`
          : asText(part),
      )
      .join(` ${tree.join} `)
  }
  return tree.operator === 'pr'
    ? `${tree.attribute} pr`
    : `${tree.attribute} ${tree.operator} ${JSON.stringify(tree.value)}`
}

/** As a group, so that another condition has a place beside it. */
export const grouped = (tree: Tree): Tree =>
  isJoined(tree) ? tree : { join: 'and', parts: [tree] }

/** Texts of filters that must hold all at once, as one. */
export function both(...texts: (string | undefined)[]): string | undefined {
  const said = texts.filter((text) => text)
  return said.length > 1 ? said.map((text) => `(${text})`).join(' and ') : said[0]
}

export function useAttributes() {
  return useQuery({
    queryKey: ['filter-attributes'],
    queryFn: () => listed(api.GET('/api/v1/filters/attributes')),
    staleTime: Infinity,
  })
}

export const valuesOf = (attribute: string, beginning: string) =>
  listed(api.GET('/api/v1/filters/values', { params: { query: { attribute, beginning } } }))

const TOKEN = /"(?:[^"\\]|\\.)*"?|[()]|[^\s()"]+/g

/** What is expected at the end of a text that is being typed, and how far it is typed already. */
export function expected(
  before: string,
  known: Map<string, Attribute>,
): {
  what: 'attribute' | 'operator' | 'value' | 'join'
  attribute: Attribute | null
  typed: string
} {
  let what: 'attribute' | 'operator' | 'value' | 'join' = 'attribute'
  let attribute: Attribute | null = null
  const tokens: string[] = before.match(TOKEN) ?? []
  const last = tokens.at(-1) ?? ''
  const open = last !== '' && !/[\s()]$/.test(before) && !/^".*[^\\]"$/.test(last)
  for (const token of open ? tokens.slice(0, -1) : tokens) {
    const word = token.toLowerCase()
    if (token === ')') what = 'join'
    else if (token === '(' || word === 'not') what = 'attribute'
    else if (what === 'attribute') [attribute, what] = [known.get(word) ?? null, 'operator']
    else if (what === 'operator') what = word === 'pr' ? 'join' : 'value'
    else what = what === 'value' ? 'join' : 'attribute'
  }
  return { what, attribute, typed: open ? last : '' }
}
