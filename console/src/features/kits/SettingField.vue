<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, listed } from '../../api/client'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import FileField from './FileField.vue'
import { platforms } from './items'

/** A setting of the catalogue, found by typing, and what it is set to. */
const key = defineModel<string>('setting', { required: true })
const value = defineModel<unknown>('value', { required: true })
const { label } = useVocabulary()
const { data } = useQuery({
  queryKey: ['catalogue'],
  queryFn: () => listed(api.GET('/api/v1/catalogue')),
})
const chosen = computed(() => data.value?.find((one) => one.key === key.value) ?? null)
const items = computed(() =>
  (data.value ?? []).map((one) => ({
    title: one.name,
    value: one.key,
    subtitle: `${one.theme} · ${one.says}`,
  })),
)
const choices = computed(() =>
  Object.entries(chosen.value?.choices ?? {}).map(([one, title]) => ({ value: one, title })),
)
const lines = computed({
  get: () => (Array.isArray(value.value) ? value.value.join('\n') : ''),
  set: (text) => (value.value = text.split('\n').filter((one) => one.trim())),
})

/** Whatever is typed is found in the name, the theme and the sentence. */
function found(_: string, typed: string, item?: { raw: { title: string; subtitle: string } }) {
  const words = `${item?.raw.title} ${item?.raw.subtitle}`.toLowerCase()
  return typed
    .toLowerCase()
    .split(/\s+/)
    .every((one) => words.includes(one))
}

function choose(one: string | null) {
  key.value = one ?? ''
  const setting = data.value?.find((each) => each.key === one)
  const first: Record<string, unknown> = {
    switch: true,
    number: setting?.least ?? 0,
    choice: Object.keys(setting?.choices ?? {})[0],
    list: [],
  }
  value.value = first[setting?.type ?? ''] ?? ''
}
</script>

<template>
  <v-autocomplete
    :model-value="key || null"
    :items="items"
    :item-props="(one) => ({ title: one.title, subtitle: one.subtitle })"
    :custom-filter="found"
    label="Setting"
    placeholder="Type what it is about: camera, update, lock"
    clearable
    @update:model-value="choose"
  />
  <template v-if="chosen">
    <p class="muted">
      {{ chosen.says }} Known to {{ platforms(chosen.platforms, (one) => label('platform', one)) }}.
    </p>
    <v-switch
      v-if="chosen.type === 'switch'"
      :model-value="value === true"
      :label="value ? 'on' : 'off'"
      color="primary"
      hide-details
      @update:model-value="(on) => (value = !!on)"
    />
    <v-text-field
      v-else-if="chosen.type === 'number'"
      :model-value="String(value ?? '')"
      :label="`${chosen.unit ?? 'Number'}, ${chosen.least} to ${chosen.most}`"
      type="number"
      :min="chosen.least ?? undefined"
      :max="chosen.most ?? undefined"
      @update:model-value="(text: string) => (value = Number(text))"
    />
    <v-select
      v-else-if="chosen.type === 'choice'"
      :model-value="value"
      :items="choices"
      label="What it is set to"
      @update:model-value="(one: unknown) => (value = one)"
    />
    <v-textarea
      v-else-if="chosen.type === 'list'"
      v-model="lines"
      label="A line for each"
      rows="3"
      auto-grow
    />
    <FileField
      v-else-if="chosen.type === 'file'"
      :model-value="String(value ?? '')"
      @update:model-value="(digest: string) => (value = digest)"
    />
    <v-text-field
      v-else
      :model-value="String(value ?? '')"
      :label="chosen.form"
      @update:model-value="(text: string) => (value = text)"
    />
  </template>
</template>
