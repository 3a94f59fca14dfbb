<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'

import { at } from '../../api/base'
import { api, got, listed, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { atTime, onDay, plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { vFirst } from '../../shared/fields/first'

/** What ends, who is reminded of it by mail, and the address for a calendar. */
const session = useSession()
const preview = usePreview()
const { label, choices } = useVocabulary()
const { data, error, isFetching } = useQuery({
  queryKey: ['ends'],
  queryFn: () => listed(api.GET('/api/v1/ends')),
})
const { data: kept } = useQuery({
  queryKey: ['reminders'],
  queryFn: () => got(api.GET('/api/v1/reminders')),
})
const { data: tokens } = useQuery({
  queryKey: ['tokens'],
  queryFn: () => listed(api.GET('/api/v1/tokens')),
})
const kind = ref<string | null>(null)
const shown = computed(() =>
  (data.value ?? []).filter((end) => !kind.value || end.kind === kind.value),
)
const columns = [
  { key: 'ends_on', title: 'Ends on' },
  { key: 'left', title: 'Left' },
  { key: 'title', title: 'What' },
  { key: 'kind', title: 'Kind' },
]
function left(end: Schemas['End']): string {
  if (end.days_left < 0) return `ended ${plural(-end.days_left, 'day')} ago`
  return end.days_left === 0 ? 'today' : plural(end.days_left, 'day')
}
const tone = (end: Schemas['End']) =>
  end.days_left < 7 ? 'tone-bad' : end.days_left < 30 ? 'tone-warn' : ''

// ---- by mail

const open = ref(false)
const form = reactive({ addresses: '', days: '', kinds: [] as Schemas['EndKind'][] })
const parts = (text: string) => text.split(/[\s,;]+/).filter(Boolean)
const whom = computed(() => kept.value?.addresses?.join(', ') ?? '')

function edit() {
  form.addresses = kept.value?.addresses?.join('\n') ?? ''
  form.days = kept.value?.days?.join(', ') ?? ''
  form.kinds = [...(kept.value?.kinds ?? [])]
  open.value = true
}

function save() {
  const body = {
    addresses: parts(form.addresses),
    days: parts(form.days).map(Number),
    kinds: form.kinds,
  }
  open.value = false
  void preview.open({
    look: () => got(api.POST('/api/v1/reminders/preview', { body })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/reminders/apply', {
          body: { reminders: body, digest, reason },
          params: { header: { 'if-match': `"${kept.value?.revision}"` } },
        }),
      ),
  })
}

// ---- as a calendar

const { failure, run, busy } = useAction()
const made = ref('')
const calendars = computed(() => (tokens.value ?? []).filter((one) => one.purpose === 'calendar'))

const make = () =>
  run(async () => {
    const body = { name: 'Calendar', role: 'viewer', days: 398, purpose: 'calendar' } as const
    const token = await got(api.POST('/api/v1/tokens', { body }))
    made.value = `${location.origin}${at(`/api/v1/calendar/${token.secret}.ics`)}`
  })

const revoke = (id: number) =>
  run(async () => {
    const params = { path: { token_id: id } }
    await got(api.DELETE('/api/v1/tokens/{token_id}', { params }))
    made.value = ''
  })
/** Browsers let pages copy only over TLS or on this machine; elsewhere it is marked by hand. */
const copies = 'clipboard' in navigator
const copy = () => navigator.clipboard.writeText(made.value)
</script>

<template>
  <div class="page-head">
    <h1>What ends</h1>
    <v-select
      v-model="kind"
      :items="choices('end_kind')"
      label="Kind"
      clearable
      class="kind"
      aria-label="Kind"
    />
  </div>
  <div class="ways">
    <v-card class="pa-4">
      <h2>By mail</h2>
      <p v-if="whom">
        Reminded: <strong>{{ whom }}</strong>, {{ kept?.days?.join(', ') }} days before.
      </p>
      <p v-else>Nobody is reminded.</p>
      <v-btn
        v-if="session.may('connect')"
        variant="outlined"
        color="primary"
        size="small"
        @click="edit"
        >Change who is reminded</v-btn
      >
    </v-card>
    <v-card class="pa-4">
      <h2>In your calendar</h2>
      <p>
        An address of your own that a calendar program subscribes to. Whoever has it reads this
        list.
      </p>
      <ProblemAlert :error="failure" />
      <div v-if="made" class="made" role="status">
        <p>Copy it now: it is not shown again.</p>
        <code>{{ made }}</code>
        <v-btn v-if="copies" variant="outlined" color="primary" size="small" @click="copy"
          >Copy the address</v-btn
        >
      </div>
      <ul v-if="calendars.length" class="calendars">
        <li v-for="one in calendars" :key="one.id">
          Made on {{ onDay(one.created_at) }},
          {{ one.used_at ? `read last on ${atTime(one.used_at)}` : 'never read' }}, until
          {{ onDay(one.expires_at) }}
          <v-btn variant="text" size="small" :loading="busy" @click="revoke(one.id)"
            >Revoke<span class="visually-hidden">
              the address of {{ atTime(one.created_at) }}</span
            ></v-btn
          >
        </li>
      </ul>
      <v-btn variant="outlined" color="primary" size="small" :loading="busy" @click="make"
        >Make an address</v-btn
      >
    </v-card>
  </div>
  <DataList
    label="What ends"
    :columns="columns"
    :items="shown"
    :row-key="(end) => end.key"
    :loading="isFetching"
    :error="error"
    empty="Nothing ends within 400 days."
  >
    <template #ends_on="{ item }">{{ onDay(item.ends_on) }}</template>
    <template #left="{ item }"
      ><span :class="tone(item)">{{ left(item) }}</span></template
    >
    <template #title="{ item }"
      ><router-link :to="item.page">{{ item.title }}</router-link></template
    >
    <template #kind="{ item }">{{ label('end_kind', item.kind) }}</template>
  </DataList>
  <EditDialog
    v-model="open"
    title="Who is reminded of what ends"
    label="Preview"
    :ready="form.days !== '' && form.kinds.length > 0"
    @save="save"
  >
    <v-textarea
      v-model="form.addresses"
      label="Mail addresses, one a line (empty: nobody)"
      rows="3"
      auto-grow
      v-first
    />
    <v-text-field v-model="form.days" label="So many days before each end" />
    <v-select v-model="form.kinds" :items="choices('end_kind')" label="Of what" multiple chips />
  </EditDialog>
</template>

<style scoped>
.kind {
  max-width: 220px;
}
.ways {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 16px;
  margin-bottom: 16px;
}
.ways p {
  margin: 4px 0 10px;
}
.made code {
  display: block;
  overflow-wrap: anywhere;
  margin-bottom: 8px;
}
.made,
.calendars {
  margin-bottom: 10px;
}
.calendars {
  padding-left: 18px;
}
@media (max-width: 800px) {
  .ways {
    grid-template-columns: 1fr;
  }
}
</style>
