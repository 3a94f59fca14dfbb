import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, got } from '../../api/client'

/** The service's own words: what can be chosen, and how it is said. */
export function useVocabulary() {
  const { data } = useQuery({
    queryKey: ['vocabulary'],
    queryFn: () => got(api.GET('/api/v1/vocabulary')),
    staleTime: Infinity,
  })

  const words = (kind: string) => data.value?.words[kind] ?? []
  /** The choices of a menu. */
  const choices = (kind: string) => words(kind).map(({ value, label }) => ({ value, title: label }))
  /** One word as it is said. */
  const label = (kind: string, value: string | null | undefined) =>
    words(kind).find((word) => word.value === value)?.label ?? value ?? '–'
  const comparison = (operator: string) =>
    data.value?.comparisons.find((one) => one.value === operator)?.label ?? operator
  const note = (code: string) => data.value?.notes.find((one) => one.code === code)
  /** What resolves the rows with a note at once, and its words. */
  const resolution = (code: string) => {
    const found = note(code)
    return found?.resolved_by
      ? { remedy: found.resolved_by, label: found.resolve_label ?? '' }
      : null
  }
  const lotColumns = computed(() => data.value?.lot_columns ?? [])
  const encodings = computed(() => data.value?.encodings ?? [])
  const identifierColumns = computed(() => data.value?.identifier_columns ?? [])
  /** What to do instead of reverting, for what cannot be. */
  const final = (operation: string) => data.value?.final[operation] ?? null
  const jobRows = computed(() => data.value?.thresholds.job_rows ?? Infinity)
  const jobBytes = computed(() => data.value?.thresholds.job_bytes ?? Infinity)

  return {
    data,
    words,
    choices,
    label,
    comparison,
    resolution,
    final,
    lotColumns,
    encodings,
    identifierColumns,
    jobRows,
    jobBytes,
  }
}
