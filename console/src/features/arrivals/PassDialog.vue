<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'

import { api, got, listed, type Schemas } from '../../api/client'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import Picker from '../../shared/fields/Picker.vue'
import { number } from '../../shared/formats'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import PassSheet from './PassSheet.vue'
import { vFirst } from '../../shared/fields/first'

/** A new pass: for anybody, for one person, for a group or for a list of people. */
const open = defineModel<boolean>({ required: true })
const { failure, busy, run, forget } = useAction()
const { choices } = useVocabulary()
const made = ref<Schemas['PassCode'] | null>(null)
const many = ref<Schemas['PassOfPerson'][] | null>(null)
const whom = ref<'anybody' | 'person' | 'group' | 'people'>('anybody')
const form = reactive({
  label: '',
  activation: 'person' as Schemas['Activation'],
  ownership: null as Schemas['Ownership'] | 'ask' | null,
  sign_in: 'nobody' as Schemas['SignInWay'],
  passcode: '',
  cohort: null as string | null,
  person: '',
  group: null as string | null,
  people: '',
  mailed: false,
  ssid: '',
  wifi: '',
  valid_days: 14,
  max_uses: '',
})
watch(open, () => {
  made.value = many.value = null
  forget()
})
const { data: groups } = useQuery({
  queryKey: ['groups'],
  queryFn: () => listed(api.GET('/api/v1/groups')),
})
const { data: cohorts } = useQuery({
  queryKey: ['cohorts'],
  queryFn: () => listed(api.GET('/api/v1/cohorts')),
})
const lists = computed(() =>
  (cohorts.value ?? []).filter((one) => one.kind === 'list').map((one) => one.name),
)
const people = computed(() => form.people.split(/[\s,;]+/).filter(Boolean))
const ready = computed(
  () =>
    form.label.trim() !== '' &&
    (whom.value !== 'person' || form.person !== '') &&
    (whom.value !== 'group' || form.group !== null) &&
    (whom.value !== 'people' || people.value.length > 0),
)
const button = computed(() => {
  const mail = form.mailed && whom.value !== 'anybody' ? ' and mail it' : ''
  return whom.value === 'group' || whom.value === 'people'
    ? `Make a pass for each${mail}`
    : `Make the pass${mail}`
})

const terms = () => ({
  label: form.label.trim(),
  activation: form.activation,
  ownership: form.ownership === 'ask' ? null : form.ownership,
  asks_ownership: form.ownership === 'ask',
  sign_in: form.sign_in,
  cohort: form.cohort,
  valid_days: Number(form.valid_days),
  max_uses: form.max_uses ? Number(form.max_uses) : null,
})

const make = () =>
  run(async () => {
    const passcode = form.passcode || null
    if (whom.value === 'group' || whom.value === 'people') {
      const body = {
        terms: terms(),
        group: whom.value === 'group' ? form.group : null,
        people: whom.value === 'people' ? people.value : [],
        passcode,
        mailed: form.mailed,
      }
      many.value = await listed(api.POST('/api/v1/passes/batch', { body }))
      return
    }
    const person = whom.value === 'person' ? form.person : null
    const wifi = form.ssid.trim()
      ? { ssid: form.ssid.trim(), password: form.wifi || null, hidden: false }
      : null
    const body = { ...terms(), person, passcode, mailed: form.mailed && person !== null, wifi }
    made.value = await got(api.POST('/api/v1/passes', { body }))
  })

const { data: card } = useQuery({
  queryKey: ['welcome-card'],
  queryFn: () => got(api.GET('/api/v1/welcome-card')),
})
const printSheet = () => window.print()
const asDocument = (svg: string) => svg.replace('<svg', '<svg xmlns="http://www.w3.org/2000/svg"')
const drawn = (svg: string | null | undefined) =>
  svg ? `data:image/svg+xml,${encodeURIComponent(asDocument(svg))}` : ''
const picture = computed(() => drawn(made.value?.qr_svg))
const wifiPicture = computed(() => drawn(made.value?.wifi_svg))
</script>

<template>
  <v-dialog v-model="open" max-width="620" aria-label="Make a pass">
    <v-card>
      <v-card-title class="pt-4">{{
        made || many?.some((one) => one.code)
          ? 'The code is shown this once'
          : many
            ? 'The passes are on their way'
            : 'Make a pass'
      }}</v-card-title>
      <v-card-text v-if="made" class="text-center stack">
        <p class="code mono">{{ made.code }}</p>
        <img :src="picture" :alt="`QR of ${made.url}`" width="200" height="200" class="qr" />
        <p class="muted">{{ made.url }}</p>
      </v-card-text>
      <v-card-text v-else-if="many" class="stack">
        <p>{{ number(many.length) }} passes were made{{ many[0]?.code ? '' : ' and mailed' }}.</p>
        <table v-if="many[0]?.code" class="codes">
          <tbody>
            <tr v-for="one in many" :key="one.id">
              <td class="mono">{{ one.code }}</td>
              <td>{{ one.person }}</td>
            </tr>
          </tbody>
        </table>
        <router-link :to="`/passes/${many[0]?.id}`">See who used theirs</router-link>
      </v-card-text>
      <v-card-text v-else class="stack">
        <ProblemAlert :error="failure" />
        <v-text-field v-model="form.label" label="What it is for" v-first />
        <v-select
          v-model="whom"
          label="For"
          :items="[
            { title: 'anybody who has the code', value: 'anybody' },
            { title: 'one person', value: 'person' },
            { title: 'everybody in a group, one each', value: 'group' },
            { title: 'a list of people, one each', value: 'people' },
          ]"
        />
        <Picker kind="person" v-if="whom === 'person'" v-model="form.person" label="Person" />
        <v-select
          v-else-if="whom === 'group'"
          v-model="form.group"
          :items="(groups ?? []).map((one) => one.name)"
          label="Group"
        />
        <v-textarea
          v-else-if="whom === 'people'"
          v-model="form.people"
          label="User names or mail addresses"
          rows="3"
          placeholder="One on each line, or separated by commas"
        />
        <v-checkbox
          v-if="whom !== 'anybody'"
          v-model="form.mailed"
          label="Mail it (a pass that was mailed proves its person)"
        />
        <v-select
          v-model="form.sign_in"
          :items="choices('sign_in_way').filter((one) => one.value !== 'passcode')"
          label="The person proves who they are by"
          hint="The gate may ask for more."
          persistent-hint
        />
        <v-text-field
          v-model="form.passcode"
          label="Passcode beside the code (empty: none)"
          autocomplete="off"
        />
        <v-select
          v-model="form.activation"
          label="Devices come into use"
          :items="choices('activation')"
        />
        <v-select
          v-model="form.ownership"
          :items="[
            { title: 'the person is asked', value: 'ask' },
            ...choices('ownership').filter((one) => one.value !== 'unknown'),
          ]"
          label="Declares them as (else: personal)"
          clearable
        />
        <div v-if="whom === 'anybody' || whom === 'person'" class="pair">
          <v-text-field v-model="form.ssid" label="Wi-Fi for the sheet (name)" autocomplete="off" />
          <v-text-field
            v-model="form.wifi"
            label="Its password (kept nowhere)"
            autocomplete="off"
          />
        </div>
        <v-select v-model="form.cohort" :items="lists" label="Devices join the list" clearable />
        <div class="pair">
          <v-text-field v-model="form.valid_days" label="Valid for (days)" type="number" min="1" />
          <v-text-field
            v-model="form.max_uses"
            label="Devices (empty: any number)"
            type="number"
            min="1"
          />
        </div>
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn v-if="made" variant="outlined" color="primary" @click="printSheet"
          >Print a sheet</v-btn
        >
        <v-btn variant="text" @click="open = false">{{ made || many ? 'Done' : 'Cancel' }}</v-btn>
        <v-btn
          v-if="!made && !many"
          color="primary"
          variant="flat"
          :disabled="!ready"
          :loading="busy"
          @click="make"
          >{{ button }}</v-btn
        >
      </v-card-actions>
    </v-card>
  </v-dialog>
  <Teleport to="body">
    <PassSheet
      v-if="made"
      :label="form.label"
      :made="made"
      :picture="picture"
      :wifi="form.ssid"
      :wifi-picture="wifiPicture"
      :days="Number(form.valid_days)"
      :card="card ?? null"
    />
  </Teleport>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px;
}
.code {
  font-size: 2rem;
  letter-spacing: 0.08em;
  font-weight: 650;
}
.codes td {
  padding-inline-end: 18px;
}
.qr {
  background: #fff;
  padding: 8px;
  border-radius: 6px;
}
</style>
