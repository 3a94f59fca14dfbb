import { QueryClient } from '@tanstack/vue-query'

/** What was read of the service, and for how long it is taken as true (ms). */
export const queries = new QueryClient({
  defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false, staleTime: 2000 } },
})

/**
 * Read again what is shown, or what of it has a key, after a change. What was asked for before the
 * change and is still on its way does not count: it may not tell of it.
 */
export async function readAgain(queryKey?: readonly unknown[]) {
  await queries.cancelQueries({ queryKey })
  await queries.invalidateQueries({ queryKey })
}
