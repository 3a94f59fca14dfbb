<script setup lang="ts">
import { mdiClose, mdiPlus } from '@mdi/js'
import { computed, ref, useId } from 'vue'

import {
  type Attribute,
  type Compared,
  isJoined,
  isNegated,
  type Joined,
  type Tree,
  valuesOf,
} from './filters'

/** A filter as rows to choose from. */
const { modelValue, attributes } = defineProps<{ modelValue: Tree; attributes: Attribute[] }>()
const emit = defineEmits<{ 'update:modelValue': [tree: Tree]; remove: [] }>()

const negated = computed(() => isNegated(modelValue))
const inner = computed(() => (isNegated(modelValue) ? modelValue.not : modelValue))
const joined = computed(() => (isJoined(inner.value) ? inner.value : null))
const compared = computed(() =>
  isJoined(inner.value) || isNegated(inner.value) ? null : (inner.value as Compared),
)
const attribute = computed(() => attributes.find((one) => one.name === compared.value?.attribute))
const operators: Record<string, string> = {
  eq: 'is',
  ne: 'is not',
  pr: 'has a value',
  co: 'contains',
  sw: 'begins with',
  ew: 'ends with',
  gt: 'is more than',
  ge: 'is at least',
  lt: 'is less than',
  le: 'is at most',
}
/** Each attribute by what it means, in the order of the words. */
const inWords = computed(() =>
  attributes
    .map((one) => ({
      name: one.name,
      words: one.meaning.charAt(0).toUpperCase() + one.meaning.slice(1),
    }))
    .sort((one, other) => one.words.localeCompare(other.words)),
)
const id = useId()
const suggested = ref<string[]>([])
async function suggest(begun: string) {
  if (attribute.value?.suggests) suggested.value = await valuesOf(attribute.value.name, begun)
}
const value = computed(() => String(compared.value?.value ?? ''))

const give = (tree: Tree, not = negated.value) =>
  emit('update:modelValue', not ? { not: tree } : tree)
const first = (name: string): Compared => {
  const known = attributes.find((one) => one.name === name)
  return {
    attribute: name,
    operator: known?.operators[0] ?? 'eq',
    value: known?.kind === 'number' ? 0 : known?.kind === 'truth' ? true : (known?.words[0] ?? ''),
  }
}

function compare(change: Partial<Compared>) {
  if (compared.value) give({ ...compared.value, ...change })
}

function typed(text: string) {
  const kind = attribute.value?.kind
  compare({ value: kind === 'number' ? Number(text) : kind === 'truth' ? text === 'true' : text })
}

/** A text counts as it is typed: what comes in beside it would else set the field back. */
function write(text: string) {
  if (attribute.value?.kind !== 'number' && attribute.value?.kind !== 'day') typed(text)
  void suggest(text)
}

function part(place: number, changed: Tree | null) {
  const group = joined.value as Joined
  const parts = changed
    ? group.parts.map((one, other) => (other === place ? changed : one))
    : group.parts.filter((_, other) => other !== place)
  if (!parts.length) emit('remove')
  else give({ ...group, parts })
}
</script>

<template>
  <fieldset v-if="joined" class="group">
    <legend class="row-gap">
      <select
        :value="negated ? (joined.join === 'and' ? 'nand' : 'nor') : joined.join"
        aria-label="How many must hold"
        @change="
          (event) => {
            const word = (event.target as HTMLSelectElement).value
            give(
              { join: word.includes('and') ? 'and' : 'or', parts: joined!.parts },
              word.startsWith('n'),
            )
          }
        "
      >
        <option value="and">all of these</option>
        <option value="or">any of these</option>
        <option value="nand">not all of these</option>
        <option value="nor">none of these</option>
      </select>
    </legend>
    <FilterTree
      v-for="(one, place) in joined.parts"
      :key="place"
      :model-value="one"
      :attributes="attributes"
      @update:model-value="(changed: Tree) => part(place, changed)"
      @remove="part(place, null)"
    />
    <div class="row-gap">
      <v-btn
        size="x-small"
        variant="text"
        color="primary"
        :prepend-icon="mdiPlus"
        @click="give({ ...joined, parts: [...joined.parts, first('platform')] })"
        >Add a condition</v-btn
      >
      <v-btn
        size="x-small"
        variant="text"
        :prepend-icon="mdiPlus"
        @click="
          give({
            ...joined,
            parts: [
              ...joined.parts,
              { join: joined.join === 'and' ? 'or' : 'and', parts: [first('platform')] },
            ],
          })
        "
        >Add a group</v-btn
      >
      <v-spacer /><v-btn
        size="x-small"
        variant="text"
        :icon="mdiClose"
        aria-label="Remove the group"
        @click="emit('remove')"
      />
    </div>
  </fieldset>
  <div v-else-if="compared" class="row">
    <select
      :value="negated ? 'not' : ''"
      aria-label="Holds or not"
      @change="give(compared, ($event.target as HTMLSelectElement).value === 'not')"
    >
      <option value="">if</option>
      <option value="not">not</option>
    </select>
    <select
      class="attribute"
      :value="compared.attribute"
      aria-label="Attribute"
      @change="give(first(($event.target as HTMLSelectElement).value))"
    >
      <option v-for="one in inWords" :key="one.name" :value="one.name">
        {{ one.words }}
      </option>
    </select>
    <select
      class="operator"
      :value="compared.operator"
      aria-label="Comparison"
      @change="compare({ operator: ($event.target as HTMLSelectElement).value })"
    >
      <option v-for="one in attribute?.operators ?? []" :key="one" :value="one">
        {{ operators[one] }}
      </option>
    </select>
    <template v-if="compared.operator !== 'pr'">
      <select
        v-if="attribute?.words.length"
        class="value"
        :value="value"
        aria-label="Value"
        @change="typed(($event.target as HTMLSelectElement).value)"
      >
        <option v-for="one in attribute.words" :key="one">{{ one }}</option>
      </select>
      <select
        v-else-if="attribute?.kind === 'truth'"
        class="value"
        :value="value"
        aria-label="Value"
        @change="typed(($event.target as HTMLSelectElement).value)"
      >
        <option value="true">yes</option>
        <option value="false">no</option>
      </select>
      <input
        v-else
        class="value"
        :value="value"
        aria-label="Value"
        :type="
          attribute?.kind === 'number' ? 'number' : attribute?.kind === 'day' ? 'date' : 'text'
        "
        :list="attribute?.suggests ? `${id}-values` : undefined"
        @focus="suggest(value)"
        @input="write(($event.target as HTMLInputElement).value)"
        @change="typed(($event.target as HTMLInputElement).value)"
      />
      <datalist v-if="attribute?.suggests" :id="`${id}-values`">
        <option v-for="one in suggested" :key="one" :value="one" />
      </datalist>
    </template>
    <v-btn
      class="remove"
      size="x-small"
      variant="text"
      :icon="mdiClose"
      aria-label="Remove the condition"
      @click="emit('remove')"
    />
  </div>
  <FilterTree
    v-else-if="isNegated(inner)"
    :model-value="inner"
    :attributes="attributes"
    @update:model-value="(changed: Tree) => give(changed)"
    @remove="emit('remove')"
  />
</template>

<style scoped>
.group {
  border: 0;
  border-left: 3px solid rgba(var(--v-theme-primary), 0.5);
  padding: 2px 0 2px 12px;
  margin: 4px 0;
}
.row {
  display: grid;
  grid-template-columns: 58px minmax(150px, 1.2fr) minmax(110px, 0.8fr) minmax(120px, 1.4fr) 32px;
  gap: 6px;
  align-items: center;
  padding: 2px 0;
}
select,
input {
  font: inherit;
  color: inherit;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.3);
  border-radius: 4px;
  padding: 4px 6px;
  min-width: 0;
}
option {
  background: rgb(var(--v-theme-surface));
}
@media (max-width: 600px) {
  .row {
    grid-template-columns: 58px minmax(0, 1fr) minmax(0, 1.4fr) 32px;
    padding: 4px 0;
  }
  .attribute {
    grid-column: 2 / 4;
  }
  .remove {
    grid-area: 1 / 4;
  }
  .operator {
    grid-column: 1 / 3;
  }
  .value {
    grid-column: 3 / 5;
  }
}
</style>
