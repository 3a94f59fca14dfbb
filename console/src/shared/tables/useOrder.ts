import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import type { Order } from './order'

/** The order of the page's list, by the heads of its columns; it stands in the address. */
export function useOrder(usual: Order | null = null) {
  const route = useRoute()
  const router = useRouter()
  return computed<Order | null>({
    get: () => {
      const key = route.query.sort
      return key ? { key: String(key), descending: route.query.descending === 'true' } : usual
    },
    set: (wanted) =>
      void router.push({
        query: {
          ...route.query,
          sort: wanted?.key,
          descending: wanted?.descending ? 'true' : undefined,
        },
      }),
  })
}
