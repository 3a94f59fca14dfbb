<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, got, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { useDocuments } from '../../shared/actions/useDocuments'
import { usePreview } from '../../shared/actions/usePreview'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import FilterField from '../../shared/filters/FilterField.vue'
import { linesOf } from './sources'
import { vFirst } from '../../shared/fields/first'

type Detail = Schemas['SourceDetail']
const { source } = defineProps<{ source: Detail | null }>()
const open = defineModel<boolean>({ required: true })
const router = useRouter()
const { choices } = useVocabulary()
const sources = useDocuments<Schemas['Source'], Detail>('/api/v1/sources')
const { busy, failure, forget } = sources
const preview = usePreview()
const looking = useAction()
const looked = ref<Schemas['SourceLook'] | null>(null)

const empty = () => ({
  name: '',
  kind: 'directory' as Schemas['SourceKind'],
  address: '',
  every: '',
  fresh: '48',
  brake: '10',
  covers: '',
  branches: '',
  people_filter: '(objectClass=inetOrgPerson)',
  groups_filter: '(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))',
  devices_filter: '',
  bind_name: '',
  starttls: true,
  authority: '',
  attributes: '',
  leavers_by: '',
  signs_in_by: null as Schemas['Login'] | null,
  resellers: '',
  takes_new: true,
  ownership: 'corporate' as Schemas['Ownership'],
  columns: '',
})
const form = reactive(empty())
const isDirectory = computed(() => form.kind === 'directory')
const addressLabel = computed(
  () =>
    ({
      directory: 'Address, such as ldaps://directory.example',
      registry: 'Address, such as https://registry.example',
      roster: 'Address of the file (empty: it is handed over by hand)',
      push: '',
      issuer: 'Address of its public keys (empty: they are handed over by hand)',
    })[form.kind],
)

watch(open, (now) => {
  if (!now) return
  forget()
  looking.forget()
  looked.value = null
  Object.assign(form, empty())
  if (!source) return
  Object.assign(form, {
    ...source,
    address: source.address ?? '',
    every: source.every_minutes === null ? '' : String(source.every_minutes),
    fresh: String(source.fresh_hours),
    brake: String(source.brake_percent),
    covers: source.covers ?? '',
    branches: source.branches?.join('\n') ?? '',
    groups_filter: source.groups_filter ?? '',
    devices_filter: source.devices_filter ?? '',
    bind_name: source.bind_name ?? '',
    authority: source.authority ?? '',
    attributes: source.attributes?.join('\n') ?? '',
    leavers_by: source.leavers_by ?? '',
    resellers: source.resellers?.join('\n') ?? '',
    columns: source.columns?.join('\n') ?? '',
  })
})

/** What is written, with the fields of its kind alone. */
function written(): Schemas['Source'] {
  const common = {
    name: form.name,
    kind: form.kind,
    address: form.address.trim() || null,
    every_minutes: form.every === '' ? null : Number(form.every),
    fresh_hours: Number(form.fresh),
    brake_percent: Number(form.brake),
    whole_hours: source?.whole_hours ?? 24,
    covers: form.covers.trim() || null,
  }
  if (form.kind === 'directory')
    return {
      ...common,
      branches: linesOf(form.branches),
      people_filter: form.people_filter || null,
      groups_filter: form.groups_filter || null,
      devices_filter: form.devices_filter || null,
      bind_name: form.bind_name || null,
      starttls: form.starttls,
      authority: form.authority || null,
      attributes: linesOf(form.attributes),
      leavers_by: form.leavers_by || null,
      signs_in_by: form.signs_in_by,
    } as Schemas['Source']
  if (form.kind === 'registry')
    return {
      ...common,
      resellers: linesOf(form.resellers),
      takes_new: form.takes_new,
      ownership: form.ownership,
    } as Schemas['Source']
  if (form.kind === 'roster')
    return { ...common, columns: linesOf(form.columns) } as Schemas['Source']
  return common as Schemas['Source']
}

function save() {
  const done = () => (open.value = false)
  if (source) void sources.edit(source, written(), done)
  else
    void sources.add(written(), (made) => {
      done()
      void router.push(`/sources/${made.id}`)
    })
}

/** Three real entries as the directory gives them, read as it is written now. */
function look() {
  if (!source) return
  const path = { key: String(source.id) }
  void looking.run(async () => {
    looked.value = await got(
      api.POST('/api/v1/sources/{key}/sample', { params: { path }, body: written() }),
    )
  }, false)
}

/** What the next run would do if it were saved as it is written now. */
function scope() {
  if (!source) return
  const path = { key: String(source.id) }
  void looking.run(async () => {
    const found = await got(
      api.POST('/api/v1/sources/{key}/scope/preview', { params: { path }, body: written() }),
    )
    preview.show(
      { look: () => Promise.resolve(found), act: () => Promise.resolve() },
      { ...found, nothing_to_do: true },
    )
  }, false)
}
</script>

<template>
  <EditDialog
    v-model="open"
    :title="source ? `Change “${source.name}”` : 'Add a source'"
    label="Preview"
    :failure="failure"
    :busy="busy"
    :ready="form.name !== ''"
    :width="860"
    @save="save"
  >
    <div class="two">
      <v-text-field v-model="form.name" label="Source" v-first />
      <v-select
        v-model="form.kind"
        :items="choices('source_kind')"
        label="Kind"
        :readonly="source !== null"
      />
    </div>
    <v-text-field v-if="form.kind !== 'push'" v-model="form.address" :label="addressLabel" />
    <div v-if="form.kind !== 'push'" class="three">
      <v-text-field v-model="form.every" label="Minutes from run to run (empty: by hand)" />
      <v-text-field v-model="form.fresh" label="Called late after (hours)" type="number" />
      <v-text-field v-model="form.brake" label="Brake (% dropped)" type="number" />
    </div>
    <FilterField
      v-if="form.kind !== 'issuer'"
      v-model="form.covers"
      label="Devices that it should know (empty: none is missed)"
    />
    <template v-if="isDirectory">
      <v-textarea v-model="form.branches" label="Branches, one a line" rows="2" auto-grow />
      <div class="two">
        <v-text-field v-model="form.bind_name" label="Read as (distinguished name)" />
        <v-text-field v-model="form.leavers_by" label="Leavers besides (filter, RFC 4515)" />
      </div>
      <div class="three">
        <v-text-field v-model="form.people_filter" label="People (filter)" />
        <v-text-field v-model="form.groups_filter" label="Groups (filter; empty: none)" />
        <v-text-field v-model="form.devices_filter" label="Devices (filter; empty: none)" />
      </div>
      <v-textarea
        v-model="form.attributes"
        label="Attributes, where others say it: one a line, such as user_name=sAMAccountName"
        rows="2"
        auto-grow
      />
      <v-textarea
        v-model="form.authority"
        label="Certificate (PEM) of whoever vouches for it; empty: those this service trusts"
        rows="2"
        class="mono"
      />
      <v-select
        v-model="form.signs_in_by"
        :items="choices('login')"
        label="Its people sign in with its password, by their (empty: nobody does)"
        clearable
      />
      <v-checkbox
        v-if="form.address.startsWith('ldap://')"
        v-model="form.starttls"
        label="Begin TLS before anything is said"
      />
    </template>
    <template v-if="form.kind === 'registry'">
      <v-textarea
        v-model="form.resellers"
        label="Only what these resellers delivered, one a line (empty: everything)"
        rows="2"
        auto-grow
      />
      <div class="two">
        <v-checkbox v-model="form.takes_new" label="Its new devices become awaited here" />
        <v-select v-model="form.ownership" :items="choices('ownership')" label="Whose they are" />
      </div>
    </template>
    <v-textarea
      v-if="form.kind === 'roster'"
      v-model="form.columns"
      label="Columns that it does not name plainly: one a line, such as serial=Equipment no"
      rows="2"
      auto-grow
    />
    <template v-if="source && source.kind !== 'push' && form.address">
      <div class="buttons">
        <v-btn
          variant="outlined"
          color="primary"
          size="small"
          :loading="looking.busy.value"
          @click="look"
          >Look at three entries</v-btn
        >
        <v-btn
          variant="outlined"
          color="primary"
          size="small"
          :loading="looking.busy.value"
          @click="scope"
          >What would its next run do?</v-btn
        >
      </div>
      <ProblemAlert :error="looking.failure.value" />
      <div v-if="looked" class="looked">
        <p v-for="words in looked.words" :key="words">{{ words }}</p>
        <dl v-for="(entry, place) in looked.entries" :key="place" class="mono">
          <template v-for="(values, name) in entry" :key="name">
            <dt>{{ name }}</dt>
            <dd>{{ values.join(', ') }}</dd>
          </template>
        </dl>
      </div>
    </template>
  </EditDialog>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 8px;
}
.three {
  display: grid;
  grid-template-columns: 1fr 1fr 1fr;
  gap: 8px;
}
.buttons {
  display: flex;
  gap: 8px;
}
.looked {
  max-height: 240px;
  overflow: auto;
  border: 1px solid rgba(var(--v-border-color), 0.3);
  border-radius: 6px;
  padding: 8px 12px;
}
dl {
  display: grid;
  grid-template-columns: 180px 1fr;
  margin: 8px 0;
  font-size: 0.82rem;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
@media (max-width: 640px) {
  .two,
  .three {
    grid-template-columns: 1fr;
  }
}
</style>
