<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import type { Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import AccountTrial from './AccountTrial.vue'
import FileField from './FileField.vue'
import GivenField from './GivenField.vue'
import { type Kind, type Payload, started } from './items'
import SettingField from './SettingField.vue'

/** A new item, perhaps for a setting that was found, or a change of one. */
const { item, setting = null } = defineProps<{
  item: Schemas['ItemDetail'] | null
  setting?: Schemas['CatalogueSetting'] | null
}>()
const open = defineModel<boolean>({ required: true })
const { choices, label } = useVocabulary()
const items = useDocuments<Schemas['Item'], Schemas['ItemDetail']>('/api/v1/items')
const { busy, failure, forget } = items
const payload = ref<Payload>(started('setting'))
const form = reactive({
  name: '',
  platforms: {} as Record<string, string>,
  applies_when: '',
  version: '1',
  by_hand: false,
  reboots: false,
  note: '',
  given: [] as Schemas['Given'][],
})
const chosen = computed({
  get: () => Object.keys(form.platforms),
  set: (names: string[]) =>
    (form.platforms = Object.fromEntries(names.map((one) => [one, form.platforms[one] ?? '']))),
})
const FILES = ['app', 'document']
const isFile = computed(() => FILES.includes(payload.value.kind ?? ''))

watch(
  open,
  (is) => {
    if (!is) return
    payload.value = item ? (JSON.parse(JSON.stringify(item.payload)) as Payload) : begun()
    Object.assign(form, {
      name: item?.name ?? setting?.name ?? '',
      platforms: { ...item?.platforms },
      applies_when: item?.applies_when ?? '',
      version: item?.version ?? '1',
      by_hand: item?.by_hand ?? false,
      reboots: item?.reboots ?? false,
      note: item?.note ?? '',
      given: [...(item?.given ?? [])],
    })
    forget()
  },
  { immediate: true },
)

function begun(): Payload {
  if (!setting) return started('setting')
  const first: Record<string, unknown> = {
    switch: true,
    number: setting.least ?? 0,
    choice: Object.keys(setting.choices)[0],
    list: [],
  }
  return { kind: 'setting', setting: setting.key, value: first[setting.type] ?? '' }
}

type Service = Schemas['AccountPayload']['service']
function chooseService(service: Service) {
  payload.value = {
    ...payload.value,
    service,
    port: service === 'mail' ? 993 : 443,
  } as Payload
}

function chooseFile(file: Schemas['KeptFile']) {
  const name = payload.value.kind === 'document' ? { file_name: file.name } : {}
  payload.value = { ...payload.value, digest: file.digest, size: file.size, ...name } as Payload
}

function save() {
  const document = {
    name: form.name,
    payload: payload.value,
    platforms: form.platforms,
    applies_when: form.applies_when.trim() || null,
    version: form.version.trim() || '1',
    by_hand: form.by_hand,
    reboots: form.reboots,
    note: form.note.trim() || null,
    given: form.given,
  } as Schemas['Item']
  const done = () => (open.value = false)
  void (item ? items.edit(item, document, done) : items.add(document, done))
}
</script>

<template>
  <EditDialog
    v-model="open"
    :title="item ? `Change ${item.name}` : 'Make an item'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="form.name.trim() !== ''"
    :width="780"
    @save="save"
  >
    <div class="pair">
      <v-text-field v-model="form.name" label="Item" />
      <v-select
        :model-value="payload.kind"
        :items="choices('item_kind')"
        label="Kind"
        @update:model-value="(kind: Kind) => (payload = started(kind))"
      />
    </div>
    <SettingField
      v-if="payload.kind === 'setting'"
      v-model:setting="payload.setting"
      v-model:value="payload.value"
    />
    <template v-else-if="payload.kind === 'custom'">
      <div class="pair">
        <v-text-field v-model="payload.key" label="What the platform calls it" />
        <v-select
          v-model="payload.type"
          :items="['truth', 'number', 'text', 'xml', 'json']"
          label="Its value is"
        />
      </div>
      <v-textarea v-model="payload.value" label="Value" rows="2" auto-grow />
    </template>
    <template v-else-if="payload.kind === 'network'">
      <div class="pair">
        <v-text-field v-model="payload.ssid" label="Name of the network" maxlength="32" />
        <v-select v-model="payload.security" :items="choices('security')" label="Joined" />
      </div>
      <v-text-field
        v-if="payload.security === 'secret'"
        :model-value="payload.secret ?? ''"
        :label="
          payload.secret?.startsWith('kept:')
            ? 'Shared secret: kept, encrypted; type another one to change it'
            : 'Shared secret, 8 to 63 characters'
        "
        autocomplete="off"
        @update:model-value="(text: string) => (payload = { ...payload, secret: text } as Payload)"
      />
      <v-checkbox
        v-if="payload.security === 'certificate'"
        v-model="payload.trusted"
        label="The server’s certificate comes with another item"
        hide-details
      />
      <v-checkbox v-model="payload.hidden" label="The network hides its name" hide-details />
    </template>
    <template v-else-if="payload.kind === 'account'">
      <div class="pair">
        <v-select
          :model-value="payload.service"
          :items="['mail', 'calendar', 'contacts']"
          @update:model-value="chooseService"
          label="For what"
        />
        <v-text-field v-model="payload.server" label="Server" />
        <v-text-field
          :model-value="String(payload.port)"
          label="Port"
          type="number"
          @update:model-value="
            (text: string) => (payload = { ...payload, port: Number(text) } as Payload)
          "
        />
        <v-select
          v-model="payload.signs_in_by"
          :items="[
            { value: 'mail', title: 'mail address' },
            { value: 'user_name', title: 'user name' },
          ]"
          label="The person signs in by"
        />
      </div>
      <AccountTrial :account="payload" />
    </template>
    <v-textarea
      v-else-if="payload.kind === 'certificate'"
      v-model="payload.pem"
      label="One certificate as PEM"
      class="mono"
      rows="4"
    />
    <template v-else-if="payload.kind === 'script'">
      <v-select
        v-model="payload.platform"
        :items="choices('platform').filter((one) => !['ios', 'android'].includes(one.value))"
        label="Runs on"
      />
      <v-textarea v-model="payload.text" label="Script" class="mono" rows="5" />
    </template>
    <v-text-field
      v-else-if="payload.kind === 'firmware'"
      v-model="payload.wanted"
      label="Wanted version; devices below it are listed"
    />
    <template v-if="isFile && (payload.kind === 'app' || payload.kind === 'document')">
      <div class="pair">
        <v-text-field
          v-if="payload.kind === 'app'"
          v-model="payload.identifier"
          label="What the platform calls the app"
        />
        <v-text-field v-else v-model="payload.file_name" label="File name" />
        <v-select
          :model-value="payload.address === null"
          :items="[
            { value: true, title: 'here' },
            { value: false, title: 'elsewhere, at an address' },
          ]"
          label="The file lies"
          @update:model-value="
            (here: boolean) => (payload = { ...payload, address: here ? null : '' } as Payload)
          "
        />
      </div>
      <FileField
        v-if="payload.address === null"
        :model-value="payload.digest"
        @update:model-value="(digest: string) => (payload = { ...payload, digest } as Payload)"
        @chosen="chooseFile"
      />
      <div v-else class="pair">
        <v-text-field v-model="payload.address" label="Where it lies (https)" />
        <v-text-field v-model="payload.digest" label="SHA-256 of the file, in hex" class="mono" />
        <v-text-field
          :model-value="String(payload.size)"
          label="Size in bytes"
          type="number"
          min="1"
          @update:model-value="
            (text: string) => (payload = { ...payload, size: Number(text) } as Payload)
          "
        />
      </div>
    </template>
    <v-select
      v-model="chosen"
      :items="choices('platform')"
      label="Platforms (none: all that can take it)"
      multiple
      chips
      closable-chips
    />
    <div v-if="chosen.length" class="pair">
      <v-text-field
        v-for="one in chosen"
        :key="one"
        v-model="form.platforms[one]"
        :label="`${label('platform', one)}: least version (empty: any)`"
      />
    </div>
    <FilterField v-model="form.applies_when" label="Applies to these devices (empty: all)" />
    <div class="pair">
      <v-text-field v-model="form.version" label="Version" />
      <v-text-field v-model="form.note" label="Note" placeholder="What it is for" />
    </div>
    <div class="row-gap">
      <v-checkbox v-model="form.by_hand" label="Somebody must be at the device" hide-details />
      <v-checkbox v-model="form.reboots" label="The device restarts for it" hide-details />
    </div>
    <GivenField v-model="form.given" />
  </EditDialog>
</template>
