<script setup lang="ts">
import { mdiArrowDown, mdiArrowUp, mdiDeleteOutline } from '@mdi/js'
import { nextTick, ref, useTemplateRef } from 'vue'

import type { Schemas } from '../../api/client'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import { plural } from '../../shared/formats'
import { putField, putFilter, type Typed } from './pattern'

/** One template: its pattern, whom it names, and what it would call three of them today. */
const { fields, filters, checked, first, last, editable } = defineProps<{
  fields: string[]
  filters: string[]
  checked: Schemas['TemplateChecked'] | undefined
  first: boolean
  last: boolean
  editable: boolean
}>()
const template = defineModel<Schemas['Template']>({ required: true })
const emit = defineEmits<{ move: [by: number]; remove: [] }>()

const { choices } = useVocabulary()
const area = useTemplateRef<{ $el: HTMLElement }>('area')
const choosing = ref(false)
const devices = ref('')

const input = () => area.value?.$el.querySelector('textarea') ?? null

async function put(change: (typed: Typed) => Typed | null) {
  const text = template.value.pattern
  const found = change({ text, caret: input()?.selectionStart ?? text.length })
  if (!found) return
  template.value.pattern = found.text
  await nextTick()
  input()?.focus()
  input()?.setSelectionRange(found.caret, found.caret)
}

function choose() {
  devices.value = template.value.devices ?? ''
  choosing.value = true
}

function chosen() {
  template.value.devices = devices.value.trim() || null
  choosing.value = false
}

const faults = (part: string) =>
  (checked?.problems ?? [])
    .filter((one) => one.pointer.endsWith(`/${part}`))
    .map((one) => one.detail)
</script>

<template>
  <v-card class="pa-3">
    <div class="line">
      <v-text-field
        v-model="template.name"
        label="Template"
        :readonly="!editable"
        :error-messages="faults('name')"
      />
      <v-textarea
        ref="area"
        v-model="template.pattern"
        label="Pattern"
        class="mono"
        rows="1"
        auto-grow
        no-resize
        :readonly="!editable"
        :error="!!faults('pattern').length"
        @keydown.enter.prevent
      />
      <v-select
        v-model="template.platforms"
        :items="choices('platform')"
        label="Platforms (none: all)"
        multiple
        :readonly="!editable"
      />
      <span v-if="editable" class="nowrap">
        <v-btn
          :icon="mdiArrowUp"
          size="x-small"
          variant="text"
          :disabled="first"
          :aria-label="`Move ${template.name} up`"
          @click="emit('move', -1)"
        />
        <v-btn
          :icon="mdiArrowDown"
          size="x-small"
          variant="text"
          :disabled="last"
          :aria-label="`Move ${template.name} down`"
          @click="emit('move', 1)"
        />
        <v-btn
          :icon="mdiDeleteOutline"
          size="x-small"
          variant="text"
          :disabled="first && last"
          :aria-label="`Remove ${template.name}`"
          @click="emit('remove')"
        />
      </span>
    </div>
    <div class="below">
      <template v-if="editable">
        <v-menu
          v-for="(list, what) in { field: fields, filter: filters }"
          :key="what"
          max-height="320"
        >
          <template #activator="{ props }">
            <v-btn v-bind="props" size="small" variant="tonal">Put in a {{ what }}</v-btn>
          </template>
          <v-list density="compact" :aria-label="`${what}s`">
            <v-list-item
              v-for="one in list"
              :key="one"
              :title="one"
              @click="put((typed) => (what === 'field' ? putField : putFilter)(typed, one))"
            />
          </v-list>
        </v-menu>
      </template>
      <span class="audience">
        For
        <code v-if="template.devices" class="mono">{{ template.devices }}</code>
        <template v-else
          >all devices{{ template.platforms?.length ? ' of these platforms' : '' }}</template
        >
      </span>
      <v-btn v-if="editable" size="small" variant="text" @click="choose">Choose devices</v-btn>
    </div>
    <pre
      v-for="fault in [...faults('pattern'), ...faults('devices')]"
      :key="fault"
      class="tone-bad mono fault"
      role="alert"
      >{{ fault }}</pre>
    <p v-if="checked && !checked.problems.length" class="samples">
      <span :class="checked.devices ? 'muted' : 'tone-warn'">{{
        checked.devices
          ? `Fits ${plural(checked.devices, 'device')} today:`
          : 'Fits no device today.'
      }}</span>
      <span v-for="sample in checked.samples" :key="sample.device_id">
        <router-link :to="`/devices/${sample.device_id}`">{{ sample.subject }}</router-link>
        <template v-if="sample.name === sample.subject"> keeps its name</template>
        <template v-else-if="sample.name">
          → <strong>{{ sample.name }}</strong></template
        >
        <span v-else class="tone-bad"> {{ sample.problem }}</span>
      </span>
    </p>
    <EditDialog
      v-model="choosing"
      :title="`Whom “${template.name}” names`"
      label="Take it"
      @save="chosen"
    >
      <FilterField v-model="devices" label="Devices (empty: all)" />
      <p class="muted">
        Such as <code>person.groups eq "Crew"</code>, <code>tags eq "gangway"</code> or
        <code>cohorts eq "Bridge"</code>. The first template that fits a device names it.
      </p>
    </EditDialog>
  </v-card>
</template>

<style scoped>
.line {
  display: grid;
  grid-template-columns: minmax(130px, 200px) minmax(220px, 1fr) minmax(150px, 240px) auto;
  gap: 10px;
  align-items: start;
}
.below {
  margin-top: 8px;
}
.below,
.samples {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 14px;
}
.audience code {
  overflow-wrap: anywhere;
}
.fault {
  white-space: pre-wrap;
  margin: 6px 0 0;
}
.samples {
  margin: 6px 0 0;
}
@media (max-width: 860px) {
  .line {
    grid-template-columns: 1fr;
  }
}
</style>
