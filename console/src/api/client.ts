import createClient from 'openapi-fetch'

import { at } from './base'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Preview = Schemas['Preview']
export type Problem = Schemas['Problem']

/** What the service refused, with its words. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail)
  }
}

const NO_ANSWER: Problem = {
  type: 'about:blank',
  title: 'No answer',
  status: 0,
  code: 'unreachable',
  detail: 'The service does not answer; nothing was changed.',
  remedy: 'Try again in a moment.',
  errors: [],
}

/** Who hears of each change, by the number of its journal entry. */
let heard: (entry: number) => void = () => undefined
export const onChange = (listener: (entry: number) => void) => (heard = listener)
function tell(response: Response) {
  const entry = response.headers.get('Sortitor-Journal-Entry')
  if (entry) heard(Number(entry))
}

const client = createClient<paths>({ baseUrl: at('/') })

client.use({
  onRequest({ request }) {
    // Only changes need it; without it an answer that the page asked for early fits a reading.
    if (request.method !== 'GET') request.headers.set('X-Sortitor-Console', '1')
    if (request.method === 'POST')
      request.headers.set(
        'Idempotency-Key',
        crypto.randomUUID?.() ?? `${Date.now()}-${Math.random()}`,
      )
    return request
  },
  onResponse({ response }) {
    tell(response)
    return undefined
  },
  onError() {
    return new ProblemError(NO_ANSWER)
  },
})

export const api = client

/** What an answer is as JSON, where it can be a text (a table, a stream) too. */
type Told<T> = [Exclude<T, string>] extends [never] ? T : Exclude<T, string>
type Answer<T> = Promise<{ data?: T; error?: unknown; response: Response }>

/** The data of an answer; a problem is thrown. */
export async function got<T>(answer: Answer<T>): Promise<Told<T>> {
  const { data, error, response } = await answer
  if (response.ok) return data as Told<T>
  const problem =
    error && typeof error === 'object' && 'detail' in error ? (error as Problem) : null
  throw new ProblemError(
    problem ?? {
      type: 'about:blank',
      title: response.statusText,
      status: response.status,
      code: 'unknown',
      detail: `The service answered ${response.status}.`,
      remedy: '',
      errors: [],
    },
  )
}

/** Any call whose shapes the caller knows; `revision` is the one that was read (If-Match). */
export async function send<T>(
  method: 'GET' | 'POST' | 'PUT' | 'DELETE',
  path: string,
  body?: unknown,
  revision?: number,
): Promise<T> {
  const headers: Record<string, string> = {}
  if (revision !== undefined) headers['If-Match'] = `"${revision}"`
  const answer = client.request(
    method.toLowerCase() as 'get',
    path as never,
    { body, headers } as never,
  )
  return got<T>(answer as never)
}

/** Send a file or text as it is; `more` are further headers. */
export async function sendFile<T>(
  path: string,
  query: [string, string][],
  body: Blob | string,
  media: string,
  more: Record<string, string> = {},
): Promise<T> {
  const url = at(`/api/v1${path}?${new URLSearchParams(query)}`)
  const headers = { 'Content-Type': media, 'X-Sortitor-Console': '1', ...more }
  const response = await fetch(url, { method: 'POST', headers, body })
  tell(response)
  return got<T>(
    response
      .json()
      .then((json) => (response.ok ? { data: json as T, response } : { error: json, response })),
  )
}

/** Send a file piece by piece; `heard` hears which part of it went, from 0 to 1. */
export function putFile(
  file: File,
  heard: (part: number) => void,
  stop: AbortSignal,
): Promise<Schemas['KeptFile']> {
  // Of what was sent only this older way of asking tells.
  const request = new XMLHttpRequest()
  return new Promise((resolve, reject) => {
    request.open('POST', at(`/api/v1/files?${new URLSearchParams({ name: file.name })}`))
    request.setRequestHeader('Content-Type', 'application/octet-stream')
    request.setRequestHeader('X-Sortitor-Console', '1')
    request.responseType = 'json'
    request.upload.onprogress = (event) => heard(event.loaded / Math.max(1, event.total))
    request.onload = () =>
      request.status === 201
        ? resolve(request.response as Schemas['KeptFile'])
        : reject(new ProblemError((request.response as Problem | null) ?? NO_ANSWER))
    request.onerror = () => reject(new ProblemError(NO_ANSWER))
    request.onabort = () => reject(new DOMException('Stopped', 'AbortError'))
    stop.addEventListener('abort', () => request.abort())
    request.send(file)
  })
}

/** What a list of one page lists. */
export async function listed<T>(answer: Answer<{ items: T[] }>): Promise<T[]> {
  return (await got(answer)).items
}
