import { describe, expect, it } from 'vitest'
import { nextTick, ref } from 'vue'

import { useDraft } from './useDraft'

const document = (revision: number, names: string[]) => ({ revision, names })

describe('a draft', () => {
  it('takes over what is saved until something is changed', async () => {
    const saved = ref<ReturnType<typeof document>>()
    const { draft, changed, revision } = useDraft(saved, (one) => one.names)
    expect([draft.value, changed.value]).toEqual([undefined, false])
    saved.value = document(1, ['Deck'])
    await nextTick()
    expect([draft.value, changed.value, revision.value]).toEqual([['Deck'], false, 1])
    saved.value = document(2, ['Deck', 'Quay'])
    await nextTick()
    expect([draft.value, revision.value]).toEqual([['Deck', 'Quay'], 2])
  })

  it('keeps what was typed, and what it rests on, when somebody else saves', async () => {
    const saved = ref(document(1, ['Deck']))
    const { draft, changed, revision, undo } = useDraft(saved, (one) => one.names)
    draft.value = ['Deck', 'Mine']
    saved.value = document(2, ['Theirs'])
    await nextTick()
    expect([draft.value, changed.value, revision.value]).toEqual([['Deck', 'Mine'], true, 1])
    undo()
    expect([draft.value, changed.value, revision.value]).toEqual([['Theirs'], false, 2])
  })

  it('outlives the page under its key, and goes when it is saved', async () => {
    const saved = ref(document(1, ['Deck']))
    const first = useDraft(saved, (one) => one.names, 'test')
    first.draft.value = ['Deck', 'Mine']
    await nextTick()
    const again = useDraft(ref(document(2, ['Theirs'])), (one) => one.names, 'test')
    expect([again.draft.value, again.changed.value, again.revision.value]).toEqual([
      ['Deck', 'Mine'],
      true,
      1,
    ])
    again.undo()
    await nextTick()
    const last = useDraft(ref(document(2, ['Theirs'])), (one) => one.names, 'test')
    expect([last.draft.value, last.changed.value]).toEqual([['Theirs'], false])
  })

  it('rests on its own save', async () => {
    const saved = ref(document(1, ['Deck']))
    const { draft, changed, revision } = useDraft(saved, (one) => one.names)
    draft.value = ['Mine']
    saved.value = document(2, ['Mine'])
    await nextTick()
    expect([changed.value, revision.value]).toEqual([false, 2])
  })
})
