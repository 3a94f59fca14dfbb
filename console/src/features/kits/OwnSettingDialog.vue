<script setup lang="ts">
import { computed, reactive, watch } from 'vue'

import type { Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'

/** A setting that the catalogue lacks. */
const { setting } = defineProps<{ setting: Schemas['OwnSettingDetail'] | null }>()
const open = defineModel<boolean>({ required: true })
const { choices } = useVocabulary()
const settings = useDocuments<Schemas['OwnSetting'], Schemas['OwnSettingDetail']>(
  '/api/v1/own-settings',
)
const { busy, failure, forget } = settings
const form = reactive({
  name: '',
  key: '',
  theme: 'our own',
  says: '',
  sends: '',
  platforms: [] as Schemas['Platform'][],
  type: 'text' as Schemas['SettingType'],
  least: '0',
  most: '100',
  unit: '',
  lines: '',
})
const ready = computed(
  () =>
    !!form.name.trim() && !!form.key && !!form.says && !!form.sends && form.platforms.length > 0,
)

watch(
  open,
  (is) => {
    if (!is) return
    Object.assign(form, {
      name: setting?.name ?? '',
      key: setting?.key ?? '',
      theme: setting?.theme ?? 'our own',
      says: setting?.says ?? '',
      sends: setting?.sends ?? '',
      platforms: Object.keys(setting?.platforms ?? {}),
      type: setting?.type ?? 'text',
      least: String(setting?.least ?? 0),
      most: String(setting?.most ?? 100),
      unit: setting?.unit ?? '',
      lines: Object.entries(setting?.choices ?? {})
        .map(([value, words]) => `${value}=${words}`)
        .join('\n'),
    })
    forget()
  },
  { immediate: true },
)

function save() {
  const isNumber = form.type === 'number'
  const isChoice = form.type === 'choice'
  const lines = form.lines.split('\n').filter((one) => one.trim())
  const document = {
    name: form.name,
    key: form.key,
    theme: form.theme,
    says: form.says,
    sends: form.sends,
    platforms: Object.fromEntries(
      form.platforms.map((one) => [one, setting?.platforms[one] ?? '']),
    ) as Schemas['OwnSetting']['platforms'],
    type: form.type,
    least: isNumber ? Number(form.least) : null,
    most: isNumber || form.type === 'list' || form.type === 'text' ? Number(form.most) : null,
    unit: isNumber ? form.unit.trim() || null : null,
    choices: isChoice
      ? Object.fromEntries(
          lines.map((one) => {
            const [value, words] = one.split(/=(.*)/s)
            return [value!.trim(), (words ?? value)!.trim()]
          }),
        )
      : {},
  }
  const done = () => (open.value = false)
  void (setting ? settings.edit(setting, document, done) : settings.add(document, done))
}
</script>

<template>
  <EditDialog
    v-model="open"
    :title="setting ? `Change ${setting.name}` : 'Add a setting of your own'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="ready"
    :width="760"
    @save="save"
  >
    <div class="pair">
      <v-text-field v-model="form.name" label="What it is called" />
      <v-text-field v-model="form.theme" label="Theme" />
      <v-text-field v-model="form.key" label="Key: small letters, digits, hyphens" />
      <v-text-field v-model="form.sends" label="What the platform calls it" />
    </div>
    <v-text-field v-model="form.says" label="What it does, in one sentence" />
    <div class="pair">
      <v-select
        v-model="form.platforms"
        :items="choices('platform')"
        label="Platforms that know it"
        multiple
        chips
      />
      <v-select
        v-model="form.type"
        :items="choices('setting_type').filter((one) => one.value !== 'file')"
        label="Its value is"
      />
    </div>
    <div v-if="form.type === 'number'" class="pair">
      <v-text-field v-model="form.least" label="Smallest" type="number" />
      <v-text-field v-model="form.most" label="Largest" type="number" />
      <v-text-field v-model="form.unit" label="In what, such as minutes" />
    </div>
    <v-text-field
      v-else-if="form.type === 'text' || form.type === 'list'"
      v-model="form.most"
      :label="form.type === 'text' ? 'Most characters' : 'Most entries'"
      type="number"
    />
    <v-textarea
      v-else-if="form.type === 'choice'"
      v-model="form.lines"
      label="A line for each choice: value=words"
      rows="3"
    />
  </EditDialog>
</template>
