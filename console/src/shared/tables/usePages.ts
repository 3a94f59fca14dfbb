import { useInfiniteQuery } from '@tanstack/vue-query'
import { computed, type MaybeRefOrGetter, toValue } from 'vue'

interface Page<T> {
  items: T[]
  next?: string | null
  total?: number | null
}

/** A list by cursor pages; `ask` gets the cursor of the page wanted. */
export function usePages<T>(
  key: MaybeRefOrGetter<unknown[]>,
  ask: (cursor: string | undefined) => Promise<Page<T>>,
) {
  const query = useInfiniteQuery({
    queryKey: computed(() => toValue(key)),
    queryFn: ({ pageParam }) => ask(pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last: Page<T>) => last.next ?? undefined,
  })
  const items = computed<T[]>(() => query.data.value?.pages.flatMap((page) => page.items) ?? [])
  const total = computed(() => query.data.value?.pages[0]?.total ?? null)
  return { ...query, items, total }
}
