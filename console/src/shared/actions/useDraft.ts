import { computed, type Ref, ref, watch } from 'vue'

const copied = <T>(one: T): T => JSON.parse(JSON.stringify(one)) as T
const same = (one: unknown, other: unknown) => JSON.stringify(one) === JSON.stringify(other)

/**
 * What is edited of a saved document. A newer one that arrives meanwhile is taken over only where
 * nothing was changed: nobody's typing is lost, and `revision` stays that of what was read, so
 * that saving over somebody else's change is refused by the service. `key`: under it an unsaved
 * draft outlives the page, until the session ends.
 */
export function useDraft<S extends { revision?: unknown }, T>(
  saved: Ref<S | undefined>,
  content: (saved: S) => T,
  key?: string,
) {
  const place = key && `draft:${key}`
  const kept = place ? sessionStorage.getItem(place) : null
  const { base: keptBase, draft: keptDraft } = kept
    ? (JSON.parse(kept) as { base: S; draft: T })
    : { base: undefined, draft: undefined }
  const draft = ref(keptDraft) as Ref<T | undefined>
  const base = ref(keptBase) as Ref<S | undefined>
  const changed = computed(
    () => base.value !== undefined && !same(content(base.value), draft.value),
  )

  function takeOver(found: S | undefined) {
    base.value = found
    draft.value = found && copied(content(found))
  }

  watch(
    saved,
    (found) => {
      if (!changed.value || (found && same(content(found), draft.value))) takeOver(found)
    },
    { immediate: true },
  )
  watch([base, draft], () => {
    if (!place) return
    if (changed.value)
      sessionStorage.setItem(place, JSON.stringify({ base: base.value, draft: draft.value }))
    else sessionStorage.removeItem(place)
  })
  return {
    draft,
    changed,
    revision: computed(() => base.value?.revision),
    undo: () => takeOver(saved.value),
  }
}
