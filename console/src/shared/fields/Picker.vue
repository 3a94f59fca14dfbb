<script setup lang="ts" generic="Value extends string | null | string[]">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { type Choice, type Kind, SOURCES } from './pickers'

/**
 * Somebody or something that the service knows, found by any of its names while it is typed.
 * `left`: people who have left, too; `short` stands in the field instead of a label above it.
 */
const {
  kind,
  label,
  short = '',
  suggested = '',
  left = false,
  multiple = false,
} = defineProps<{
  kind: Kind
  label: string
  short?: string
  suggested?: string
  left?: boolean
  multiple?: boolean
}>()
const model = defineModel<Value>({ required: true })
const source = computed(() => SOURCES[kind])
const typed = ref<string>(suggested)
/** Those that were chosen stay among the choices, whatever is typed afterwards. */
const kept = ref<Choice[]>([])
const values = computed<string[]>(() =>
  Array.isArray(model.value) ? model.value : model.value ? [model.value] : [],
)
const chosen = computed<Choice[]>(() =>
  values.value.map(
    (value) => kept.value.find((one) => one.value === value) ?? { value, title: value },
  ),
)
const wanted = computed(() => {
  const text = (typed.value ?? '').trim()
  return chosen.value.some((one) => one.title === text) ? '' : text
})
const { data } = useQuery({
  queryKey: computed(() => ['choices', kind, wanted.value, left]),
  queryFn: () => source.value.find(wanted.value, left),
  enabled: () => wanted.value.length >= source.value.least,
  placeholderData: (before) => (source.value.least ? undefined : before),
})
const found = computed(() => (wanted.value.length >= source.value.least ? (data.value ?? []) : []))
const items = computed<Choice[]>(() => [
  ...chosen.value,
  ...found.value.filter((one) => !values.value.includes(one.value)),
])
/** What was typed and is nobody's name: the service says so, and may take it all the same. */
const { data: unknown } = useQuery({
  queryKey: computed(() => ['unknown', kind, values.value]),
  queryFn: async () => {
    const strange: string[] = []
    for (const value of values.value) {
      const near = await source.value.find(value, true)
      if (!near.some((one) => one.value.toLowerCase() === value.toLowerCase())) strange.push(value)
    }
    return strange
  },
  enabled: () => source.value.free === true && values.value.length > 0,
})
const hint = computed(() => (source.value.free && unknown.value?.length ? source.value.none : ''))

function choose(given: unknown) {
  const wantedValues = (Array.isArray(given) ? given : given ? [given] : []).map((one) =>
    typeof one === 'object' && one ? String((one as Choice).value) : String(one).trim(),
  )
  kept.value = wantedValues.map(
    (value) => items.value.find((one) => one.value === value) ?? { value, title: value },
  )
  model.value = (multiple ? wantedValues : (wantedValues[0] ?? '')) as Value
}
const itemProps = (one: Choice) => ({ title: one.title, subtitle: one.subtitle })
const shown = computed(() => (multiple ? values.value : (values.value[0] ?? null)))
/** What both kinds of field have, whether a new name may be given in them or not. */
const common = computed(() => ({
  modelValue: shown.value,
  items: items.value,
  itemProps,
  itemValue: 'value',
  itemTitle: 'title',
  label: short ? undefined : label,
  'aria-label': label,
  multiple,
  chips: multiple,
  closableChips: multiple,
  noFilter: true,
}))
const none = computed(() => wanted.value.length >= Math.max(1, source.value.least))
</script>

<template>
  <v-combobox
    v-if="source.free"
    v-bind="common"
    v-model:search="typed"
    class="picker"
    :placeholder="short"
    :return-object="false"
    :hint="hint"
    :persistent-hint="!!hint"
    hide-no-data
    clearable
    @update:model-value="choose"
  />
  <v-autocomplete
    v-else
    v-bind="common"
    v-model:search="typed"
    class="picker"
    :placeholder="short || (source.least ? 'Type a name' : '')"
    :persistent-placeholder="!!short"
    :clear-on-select="multiple"
    :hide-no-data="!none"
    auto-select-first
    @update:model-value="choose"
  >
    <template #no-data>
      <div class="px-4 py-2">
        {{ source.none }}
        <router-link v-if="source.make" :to="source.make.to">{{ source.make.say }}</router-link>
      </div>
    </template>
  </v-autocomplete>
</template>

<style scoped>
.picker {
  min-width: 190px;
}
</style>
