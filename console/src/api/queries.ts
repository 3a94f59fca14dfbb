import { QueryClient } from '@tanstack/vue-query'

/** What was read of the service, and for how long it is taken as true (ms). */
export const queries = new QueryClient({
  defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false, staleTime: 2000 } },
})
