<script setup lang="ts">
import { computed, nextTick, ref, useId, useTemplateRef, watch } from 'vue'

import { api, got, ProblemError } from '../../api/client'
import { asText, expected, grouped, type Tree, useAttributes, valuesOf } from './filters'
import FilterTree from './FilterTree.vue'
import { number } from '../formats'

/** A filter, typed with completion or built by clicking; either way shows the other. */
const {
  label = 'Filter',
  inUse = false,
  awaitedToo = false,
} = defineProps<{
  label?: string
  /** Those in use alone are meant, and counted; or awaited ones, too. */
  inUse?: boolean
  awaitedToo?: boolean
}>()
const fitting = computed(() => {
  const kind = inUse ? ` in use${awaitedToo ? ' or awaited' : ''}` : ''
  return fits.value === 1
    ? `1 device${kind} fits now`
    : `${number(fits.value ?? 0)} devices${kind} fit now`
})
watch(
  () => awaitedToo,
  () => check(),
)
const model = defineModel<string>({ required: true })
const emit = defineEmits<{ settled: [text: string, devices: number | null] }>()

const words: Record<string, string> = {
  eq: 'is',
  ne: 'is not',
  pr: 'has a value',
  co: 'contains',
  sw: 'begins with',
  ew: 'ends with',
  gt: 'greater than',
  ge: 'at least',
  lt: 'less than',
  le: 'at most',
  and: 'both hold',
  or: 'one holds is enough',
}
interface Choice {
  text: string
  title: string
  hint: string
}

const id = useId()
const area = useTemplateRef<HTMLTextAreaElement>('area')
const { data: attributes } = useAttributes()
const known = computed(
  () => new Map((attributes.value ?? []).map((one) => [one.name.toLowerCase(), one])),
)
const choices = ref<Choice[]>([])
const active = ref(-1)
const tree = ref<Tree | null>(null)
const fits = ref<number | null>(null)
const fault = ref('')
/** What is meant, and why it is asked for. */
const meant = ref<{ words: string; filter: string } | null>(null)
const building = ref(false)
let timer: ReturnType<typeof setTimeout> | undefined
let asked = 0
let suggested = 0

function check() {
  clearTimeout(timer)
  timer = setTimeout(() => void read(), 220)
}

async function read() {
  const [text, turn] = [model.value, ++asked]
  if (!text.trim()) {
    if (!building.value) tree.value = null
    fits.value = null
    fault.value = ''
    meant.value = null
    emit('settled', '', null)
    return
  }
  try {
    const body = { filter: text, in_use: inUse, awaited_too: awaitedToo }
    const found = await got(api.POST('/api/v1/filters/check', { body }))
    if (turn !== asked || text !== model.value) return
    // What is being clicked together keeps its groups, also those of one condition.
    if (!tree.value || asText(tree.value) !== text) {
      const read = found.tree as unknown as Tree
      tree.value = building.value ? grouped(read) : read
    }
    fits.value = found.devices
    fault.value = ''
    meant.value = found.question ?? null
    emit('settled', text, found.devices)
  } catch (error) {
    if (turn !== asked || text !== model.value) return
    fits.value = null
    fault.value = error instanceof ProblemError ? error.problem.detail : String(error)
    const corrected = error instanceof ProblemError && error.problem.errors?.[0]?.suggestion
    meant.value = corrected ? { words: '', filter: corrected } : null
  }
}

function takeMeant() {
  model.value = meant.value!.filter
  area.value?.focus()
}

async function suggest() {
  const field = area.value
  if (!field) return
  const before = field.value.slice(0, field.selectionStart)
  const { what, attribute, typed } = expected(before, known.value)
  const begins = typed.toLowerCase()
  const turn = ++suggested
  let found: Choice[]
  if (what === 'attribute') {
    found = [...known.value.values()]
      .filter((one) => one.name.toLowerCase().includes(begins))
      .map((one) => ({ text: one.name, title: one.name, hint: one.meaning }))
    found.sort(
      (one, other) =>
        Number(other.text.toLowerCase().startsWith(begins)) -
        Number(one.text.toLowerCase().startsWith(begins)),
    )
  } else if (what === 'operator') {
    found = (attribute?.operators ?? [])
      .filter((one) => one.startsWith(begins))
      .map((one) => ({ text: one, title: one, hint: words[one] ?? '' }))
  } else if (what === 'value') {
    const begun = typed.replace(/^"/, '')
    // What no longer fits goes at once: Enter must not take it while the service is asked.
    choices.value = choices.value.filter((one) =>
      one.title.toLowerCase().startsWith(begun.toLowerCase()),
    )
    active.value = choices.value.length ? 0 : -1
    const values = attribute?.words.length
      ? attribute.words.filter((one) => one.startsWith(begun.toLowerCase()))
      : attribute?.kind === 'truth'
        ? ['true', 'false']
        : attribute?.suggests
          ? await valuesOf(attribute.name, begun)
          : []
    found = values.map((one) => ({
      text: attribute?.kind === 'truth' ? one : JSON.stringify(one),
      title: one,
      hint: '',
    }))
  } else {
    // A filter that is whole wants nothing more; what stands below the field is not to be covered.
    found = (typed || /\s$/.test(before) ? ['and', 'or'] : [])
      .filter((one) => one.startsWith(begins))
      .map((one) => ({ text: one, title: one, hint: words[one] ?? '' }))
  }
  if (turn !== suggested) return
  choices.value = found.slice(0, 12)
  active.value = typed && found.length ? 0 : -1
}

async function take(choice: Choice) {
  const field = area.value
  if (!field) return
  const at = field.selectionStart
  const { typed } = expected(field.value.slice(0, at), known.value)
  const before = field.value.slice(0, at - typed.length) + choice.text + ' '
  model.value = before + field.value.slice(at).replace(/^ /, '')
  await nextTick()
  field.focus()
  field.setSelectionRange(before.length, before.length)
  void suggest()
}

function key(event: KeyboardEvent) {
  const open = choices.value.length
  if (event.key === 'Escape' && open) {
    choices.value = []
    // The dialog around the field stays open.
    event.stopPropagation()
  } else if (event.key === 'ArrowDown' && open) active.value = (active.value + 1) % open
  else if (event.key === 'ArrowUp' && open) active.value = (active.value + open - 1) % open
  else if (event.key === 'Enter') {
    const choice = choices.value[active.value]
    if (choice) void take(choice)
    else choices.value = []
  } else return
  event.preventDefault()
}

function rebuild(changed: Tree | null) {
  tree.value = changed
  model.value = changed ? asText(changed) : ''
}

function build() {
  building.value = !building.value
  choices.value = []
  if (building.value)
    tree.value = grouped(tree.value ?? { attribute: 'platform', operator: 'eq', value: 'android' })
}

watch(model, check, { immediate: true })
</script>

<template>
  <div class="field">
    <label :for="id">{{ label }}</label>
    <div class="box" :class="{ bad: fault && !choices.length }">
      <textarea
        :id="id"
        ref="area"
        v-model="model"
        class="mono"
        rows="1"
        spellcheck="false"
        autocomplete="off"
        aria-autocomplete="list"
        :aria-controls="choices.length ? `${id}-list` : undefined"
        :aria-activedescendant="active >= 0 ? `${id}-${active}` : undefined"
        :aria-describedby="`${id}-state`"
        :aria-invalid="fault !== ''"
        placeholder='site eq "Quillharbour" and idleDays ge 90'
        @input="suggest"
        @focus="suggest"
        @click="suggest"
        @blur="choices = []"
        @keydown="key"
      />
      <v-btn size="small" variant="text" :aria-pressed="building" @click="build">{{
        building ? 'Only the text' : 'Build by clicking'
      }}</v-btn>
      <v-btn v-if="model" size="small" variant="text" @click="model = ''">Clear</v-btn>
      <ul v-if="choices.length" :id="`${id}-list`" role="listbox" aria-label="What can stand here">
        <li
          v-for="(choice, place) in choices"
          :id="`${id}-${place}`"
          :key="choice.text"
          role="option"
          :aria-selected="place === active"
          @mousedown.prevent="take(choice)"
        >
          <span class="mono">{{ choice.title }}</span> <span class="muted">{{ choice.hint }}</span>
        </li>
      </ul>
    </div>
    <pre v-if="fault && !choices.length" :id="`${id}-state`" class="tone-bad mono" role="alert">{{
      fault
    }}</pre>
    <div v-else :id="`${id}-state`" class="muted" aria-live="polite">
      {{
        fault
          ? 'Not whole yet'
          : fits === null
            ? 'Type what the devices have in common; suggestions come as you type.'
            : fitting
      }}
    </div>
    <p v-if="meant && !choices.length" class="row-gap">
      <span v-if="meant.words">{{ meant.words }}</span>
      <v-btn size="small" variant="outlined" color="primary" @click="takeMeant"
        >Take <span class="mono ml-1">{{ meant.filter }}</span></v-btn
      >
    </p>
    <FilterTree
      v-if="building && tree"
      :model-value="tree"
      :attributes="attributes ?? []"
      class="mt-2"
      @update:model-value="rebuild"
      @remove="rebuild(null)"
    />
  </div>
</template>

<style scoped>
.field label {
  display: block;
  font-size: 0.78rem;
  color: rgba(var(--v-theme-on-surface), var(--v-medium-emphasis-opacity));
  margin-bottom: 2px;
}
.box {
  position: relative;
  display: flex;
  align-items: center;
  gap: 4px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.38);
  border-radius: 4px;
  padding: 2px 4px 2px 10px;
  background: rgb(var(--v-theme-surface));
}
.box:focus-within {
  border-color: rgb(var(--v-theme-primary));
  box-shadow: 0 0 0 1px rgb(var(--v-theme-primary));
}
.bad {
  border-color: rgb(var(--v-theme-error));
}
textarea {
  flex: 1 1 auto;
  min-width: 0;
  border: 0;
  outline: 0;
  background: none;
  color: inherit;
  resize: none;
  field-sizing: content;
  min-height: 22px;
  padding: 5px 0;
  overflow-wrap: anywhere;
}
ul {
  position: absolute;
  z-index: 20;
  left: 0;
  top: calc(100% + 3px);
  min-width: 320px;
  max-width: 100%;
  max-height: 300px;
  overflow: auto;
  list-style: none;
  padding: 4px;
  border-radius: 4px;
  background: rgb(var(--v-theme-surface));
  box-shadow: 0 6px 24px rgb(0 0 0 / 0.28);
  border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
}
li {
  padding: 4px 8px;
  border-radius: 3px;
  cursor: pointer;
}
li[aria-selected='true'],
li:hover {
  background: rgba(var(--v-theme-primary), 0.14);
}
pre {
  white-space: pre;
  overflow: auto;
  margin: 4px 0 0;
}
@media (max-width: 600px) {
  .box {
    flex-wrap: wrap;
  }
  textarea {
    flex-basis: 100%;
  }
  ul {
    min-width: 100%;
  }
}
</style>
