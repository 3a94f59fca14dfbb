<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, type Schemas, send, sendFile } from '../../api/client'
import { saveFile } from '../../api/files'
import { readAgain } from '../../api/queries'
import { useAction } from '../../shared/actions/useAction'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useJob } from '../../shared/actions/useJob'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import JobBar from '../../shared/dialogs/JobBar.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { age, atTime, number, onDay, plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { usePages } from '../../shared/tables/usePages'
import RegistryActs from './RegistryActs.vue'
import SourceDialog from './SourceDialog.vue'
import StateChip from './StateChip.vue'
import { knows } from './sources'

type Detail = Schemas['SourceDetail']
const route = useRoute()
const router = useRouter()
const session = useSession()
const { label } = useVocabulary()
const sources = useDocuments<Schemas['Source'], Detail>('/api/v1/sources')
const preview = usePreview()
const job = useJob()
const act = useAction()
const key = computed(() => String(route.params.id))
const path = computed(() => ({ key: key.value }))
const { data: source, error } = useQuery({
  queryKey: computed(() => ['source', key.value]),
  queryFn: () => got(api.GET('/api/v1/sources/{key}', { params: { path: path.value } })),
})
const { data: today } = useQuery({
  queryKey: ['today'],
  queryFn: () => got(api.GET('/api/v1/today')),
})
const runs = usePages<Schemas['SourceRun']>(
  () => ['source-runs', key.value],
  (cursor) =>
    got(api.GET('/api/v1/source-runs', { params: { query: { source: key.value, cursor } } })),
)
const tab = ref('runs')
const query = ref('')
const unknownOnly = ref(false)
const lines = usePages<Schemas['RosterLine']>(
  () => ['roster', key.value, query.value, unknownOnly.value],
  (cursor) =>
    got(
      api.GET('/api/v1/sources/{key}/devices', {
        params: {
          path: path.value,
          query: { cursor, query: query.value || undefined, unknown: unknownOnly.value },
        },
      }),
    ),
)
const runColumns = [
  { key: 'asked_at', title: 'At' },
  { key: 'by', title: 'By' },
  { key: 'whole', title: 'Read' },
  { key: 'state', title: 'State' },
  { key: 'counts', title: 'What it changed' },
  { key: 'act', title: '' },
]
const lineColumns = [
  { key: 'key', title: 'Its number' },
  { key: 'serial', title: 'Serial number' },
  { key: 'imei', title: 'IMEI' },
  { key: 'model', title: 'Model' },
  { key: 'order_name', title: 'Order' },
  { key: 'person', title: 'Person' },
  { key: 'device', title: 'Device here' },
]
const NO_KEY =
  'Nothing yet. Make a key pair, take its certificate to the registry, and give the ' +
  'registry’s token here.'
const GIVE_TOKEN =
  'Paste the registry’s token, a signed certificate, or drop the file. What it is, is seen by ' +
  'its form.'
const GIVE_SECRET = 'It is kept encrypted and never shown again.'
const NO_RUNS = 'No runs yet: run it, or hand its file over.'
const RUN_COLOURS: Record<string, string> = {
  done: 'success',
  failed: 'error',
  braked: 'warning',
  running: 'info',
  waiting: 'info',
}
const editing = ref(false)
const giving = ref(false)
const secret = ref('')
const taken = ref<Schemas['CredentialTaken'] | null>(null)
const certificate = ref<string | null>(null)
const looked = ref<Schemas['SourceLook'] | null>(null)
const asks = computed(() => source.value?.kind !== 'push' && source.value?.address)

function run(unbraked = false) {
  void act.run(async () => {
    const asked = await got(
      api.POST('/api/v1/sources/{key}/runs', {
        params: { path: path.value },
        body: { whole: true, unbraked },
      }),
    )
    try {
      await job.follow(asked)
    } finally {
      // What a run failed of is told on the source, too.
      await readAgain()
    }
  })
}

function lookFirst() {
  void preview.open({
    look: () =>
      got(api.POST('/api/v1/sources/{key}/runs/preview', { params: { path: path.value } })),
    act: () => {
      run(source.value?.last_problem?.code === 'braked')
      return Promise.resolve()
    },
  })
}

function revert(entry: number) {
  void router.push(`/journal?entry=${entry}`)
}

function test() {
  void act.run(async () => {
    looked.value = await got(
      api.POST('/api/v1/sources/{key}/test', { params: { path: path.value } }),
    )
  })
}

function give() {
  void act.run(async () => {
    taken.value = await got(
      api.POST('/api/v1/sources/{key}/credentials', {
        params: { path: path.value },
        body: { text: secret.value },
      }),
    )
    secret.value = ''
    certificate.value = null
    giving.value = false
  })
}

async function readFile(file: File | File[] | null) {
  const chosen = Array.isArray(file) ? file[0] : file
  if (chosen) secret.value = await chosen.text()
}

function makeKey() {
  void act.run(async () => {
    const params = { path: path.value }
    certificate.value = await got(
      api.POST('/api/v1/sources/{key}/key', { params, parseAs: 'text' }),
    )
  })
}

function showCertificate() {
  void act.run(async () => {
    const params = { path: path.value }
    certificate.value = await got(
      api.GET('/api/v1/sources/{key}/certificate', { params, parseAs: 'text' }),
    )
  }, false)
}

const saveCertificate = () =>
  saveFile(new Blob([certificate.value ?? '']), `${source.value?.name ?? 'source'}.pem`)

function saveDiagnosis() {
  void act.run(async () => {
    const params = { path: path.value }
    const text = await got(api.GET('/api/v1/sources/{key}/diagnosis', { params, parseAs: 'text' }))
    saveFile(new Blob([text]), `${source.value?.name ?? 'source'}-diagnosis.txt`)
  }, false)
}

function handOver(file: File | File[] | null) {
  const chosen = Array.isArray(file) ? file[0] : file
  if (!chosen) return
  const media = 'application/octet-stream'
  void preview.open({
    look: () => sendFile(`/sources/${key.value}/file/preview`, [], chosen, media),
    act: (digest) => sendFile(`/sources/${key.value}/file`, [['digest', digest]], chosen, media),
  })
}

function forgetSecret(kind: Schemas['SecretKind']) {
  void act.run(() => send('DELETE', `/api/v1/sources/${key.value}/credentials/${kind}`))
}

const remove = () =>
  source.value && void sources.remove(source.value, () => void router.push('/sources'))
const told = (done: Schemas['SourceRun']) =>
  Object.entries(done.counts)
    .map(([name, count]) => `${number(count)} ${done.words?.[name] ?? name}`)
    .join(', ') || 'nothing'
const leftWords = (days: number) =>
  days < 0 ? `ended ${plural(-days, 'day')} ago` : `${plural(days, 'day')} left`
</script>

<template>
  <ProblemAlert :error="error" />
  <template v-if="source">
    <div class="page-head">
      <h1>{{ source.name }}</h1>
      <StateChip :source="source" />
      <span class="muted grow">{{ label('source_kind', source.kind) }} {{ source.address }}</span>
      <template v-if="session.may('connect')">
        <v-btn v-if="asks" variant="outlined" color="primary" @click="lookFirst"
          >Preview a run</v-btn
        >
        <v-btn
          v-if="asks"
          color="primary"
          :disabled="source.at_work !== null"
          :loading="act.busy.value"
          @click="run()"
          >Run now</v-btn
        >
      </template>
    </div>
    <JobBar v-if="job.state.job" :job="job.state.job" />
    <ProblemAlert :error="act.failure.value" />
    <v-alert v-if="source.last_problem && source.state === 'failing'" type="error" class="mb-3">
      {{ source.last_problem.detail }} {{ source.last_problem.remedy }} What was known before
      stands.
      <v-btn
        v-if="source.last_problem.code === 'braked' && session.may('connect')"
        size="small"
        variant="outlined"
        class="ml-2"
        @click="lookFirst"
        >Look, then let it go on</v-btn
      >
    </v-alert>
    <v-alert v-for="words in taken?.words ?? []" :key="words" type="success" class="mb-2">{{
      words
    }}</v-alert>
    <div class="cards">
      <v-card class="pa-3">
        <h2>What it knows</h2>
        <dl>
          <dt>Knows</dt>
          <dd>
            {{ knows(source)
            }}<template v-if="source.unknown"
              >,
              <router-link :to="`/levels?source=${source.id}&kind=unknown`"
                >{{ number(source.unknown) }} unknown here</router-link
              ></template
            >
          </dd>
          <dt>Last read</dt>
          <dd>
            {{ atTime(source.good_at)
            }}<template v-if="source.good_at && today"
              >, {{ age(source.good_at, today.now) }} ago</template
            >
          </dd>
          <dt>Next run</dt>
          <dd>{{ source.next_at ? atTime(source.next_at) : 'by hand' }}</dd>
          <dt>Called late</dt>
          <dd>after {{ plural(source.fresh_hours ?? 48, 'hour') }}</dd>
          <dt>Should know</dt>
          <dd>
            <span v-if="source.covers" class="mono">{{ source.covers }}</span><template v-else
              >nothing is missed there</template
            >
          </dd>
          <dt>Brake</dt>
          <dd>stops and asks where more than {{ source.brake_percent }} % would go</dd>
        </dl>
        <div v-if="session.may('connect')" class="buttons">
          <v-btn size="small" variant="text" color="primary" @click="editing = true">Change</v-btn>
          <v-btn size="small" variant="text" color="error" @click="remove">Remove</v-btn>
          <v-btn size="small" variant="text" @click="saveDiagnosis">Diagnosis for support</v-btn>
        </div>
        <v-file-input
          v-if="['roster', 'issuer'].includes(source.kind) && session.may('connect')"
          :label="
            source.kind === 'issuer'
              ? 'Hand its public keys over: a JWK Set (RFC 7517)'
              : 'Hand a file over: CSV, XLSX, ODS, JSON Lines'
          "
          class="mt-2"
          @update:model-value="handOver"
        />
      </v-card>
      <v-card v-if="source.kind !== 'push'" class="pa-3">
        <h2>What opens it</h2>
        <p v-if="!source.secrets.length" class="muted">
          {{ source.kind === 'registry' ? NO_KEY : 'Nothing yet.' }}
        </p>
        <ul class="secrets">
          <li v-for="one in source.secrets" :key="`${one.kind}${one.waiting}`">
            <strong>{{ label('secret_kind', one.kind) }}{{ one.waiting ? ', waits' : '' }}</strong
            ><span class="muted ml-2"
              >{{ one.words }} since {{ onDay(one.made_at) }} by {{ one.made_by }}</span
            ><span
              v-if="one.ends_at && one.days_left !== null"
              :class="{ 'tone-bad': one.days_left < 14 }"
              >, until {{ onDay(one.ends_at) }} ({{ leftWords(one.days_left) }})</span
            >
            <v-btn
              v-if="session.may('connect') && !one.waiting && one.kind !== 'key'"
              size="x-small"
              variant="text"
              color="error"
              @click="forgetSecret(one.kind)"
              >Forget</v-btn
            >
          </li>
        </ul>
        <div v-if="session.may('connect')" class="buttons">
          <v-btn size="small" variant="outlined" color="primary" @click="giving = true"
            >Give a credential</v-btn
          >
          <template v-if="source.kind === 'registry'">
            <v-btn size="small" variant="outlined" color="primary" @click="makeKey"
              >Make a key pair</v-btn
            >
            <v-btn
              v-if="source.secrets.length"
              size="small"
              variant="text"
              color="primary"
              @click="showCertificate"
              >Show its certificate</v-btn
            >
          </template>
          <v-btn v-if="asks" size="small" variant="text" color="primary" @click="test">Test</v-btn>
        </div>
        <div v-if="certificate" class="mt-2">
          <p>
            Take this certificate to the registry. Its token comes back encrypted for it; give that
            here.
          </p>
          <v-textarea
            :model-value="certificate"
            class="mono pem"
            label="Certificate"
            rows="4"
            readonly
          />
          <v-btn size="small" variant="text" color="primary" @click="saveCertificate"
            >Save as a file</v-btn
          >
        </div>
        <div v-if="looked" class="mt-2" role="status">
          <p v-for="words in looked.words" :key="words">{{ words }}</p>
        </div>
      </v-card>
    </div>
    <RegistryActs v-if="source.kind === 'registry' && session.may('connect')" :source="source" />
    <v-tabs v-model="tab" color="primary" class="mt-4">
      <v-tab value="runs">Runs</v-tab>
      <v-tab v-if="source.devices" value="roster">Devices it knows</v-tab>
    </v-tabs>
    <DataList
      v-if="tab === 'runs'"
      label="Runs"
      :columns="runColumns"
      :items="runs.items.value"
      :row-key="(one) => one.id"
      :loading="runs.isFetching.value"
      :error="runs.error.value"
      :more="runs.hasNextPage.value"
      :empty="source.kind === 'push' ? 'What is pushed has no runs.' : NO_RUNS"
      @more="runs.fetchNextPage()"
    >
      <template #asked_at="{ item }">{{ atTime(item.asked_at) }}</template>
      <template #whole="{ item }">{{ item.whole ? 'everything' : 'changes' }}</template>
      <template #state="{ item }"
        ><v-chip :color="RUN_COLOURS[item.state]">{{
          item.state === 'braked' ? 'stopped, asks' : item.state
        }}</v-chip></template
      >
      <template #counts="{ item }">
        <template v-if="item.problem">{{ item.problem.detail }}</template>
        <template v-else>{{ told(item) }}</template>
        <div v-for="remark in item.remarks" :key="remark.code + remark.words" class="tone-warn">
          {{ number(remark.count) }} {{ remark.words }}
        </div>
      </template>
      <template #act="{ item }"
        ><span class="nowrap">
          <v-btn
            v-if="item.lot_id"
            size="small"
            variant="text"
            color="primary"
            :to="`/lots/${item.lot_id}`"
            >Lot {{ item.lot_id }}</v-btn
          >
          <v-btn
            v-if="item.entry_id"
            size="small"
            variant="text"
            color="primary"
            @click="revert(item.entry_id)"
            >Look, take back</v-btn
          >
        </span></template
      >
    </DataList>
    <template v-else>
      <div class="filters">
        <v-text-field v-model="query" label="Serial number, IMEI or order begins with" clearable />
        <v-checkbox v-model="unknownOnly" label="Only what is no device here" />
      </div>
      <DataList
        label="Devices it knows"
        :columns="lineColumns"
        :items="lines.items.value"
        :row-key="(line) => line.key"
        :loading="lines.isFetching.value"
        :error="lines.error.value"
        :more="lines.hasNextPage.value"
        empty="Nothing fits."
        @more="lines.fetchNextPage()"
      >
        <template #device="{ item }"
          ><router-link v-if="item.device_id" :to="`/devices/${item.device_id}`"
            >{{ item.device_name ?? item.serial ?? `device no. ${item.device_id}` }},
            {{ item.stage }}</router-link
          ><span v-else class="tone-warn">unknown</span></template
        >
      </DataList>
    </template>
    <SourceDialog v-model="editing" :source="source" />
    <EditDialog
      v-model="giving"
      title="Give a credential"
      label="Take it in"
      :failure="act.failure.value"
      :busy="act.busy.value"
      :ready="secret !== ''"
      @save="give"
    >
      <p>
        {{ source.kind === 'registry' ? GIVE_TOKEN : GIVE_SECRET }}
      </p>
      <v-textarea
        v-if="source.kind === 'registry'"
        v-model="secret"
        label="Token or certificate"
        rows="6"
        class="mono"
        autocomplete="off"
      />
      <v-text-field
        v-else
        v-model="secret"
        :label="source.kind === 'directory' ? 'Password' : 'Token'"
        type="password"
        autocomplete="new-password"
      />
      <v-file-input label="Or a file" @update:model-value="readFile" />
    </EditDialog>
  </template>
</template>

<style scoped>
.grow {
  flex: 1 1 auto;
}
.cards {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(420px, 1fr));
  gap: 12px;
}
h2 {
  font-size: 1rem;
}
dl {
  display: grid;
  grid-template-columns: 110px 1fr;
  gap: 2px 8px;
  margin: 6px 0;
}
dt {
  color: rgba(var(--v-theme-on-surface), var(--v-medium-emphasis-opacity));
}
dd {
  margin: 0;
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  margin-top: 6px;
}
.secrets {
  margin: 6px 0;
  padding-left: 18px;
}
.filters {
  display: grid;
  grid-template-columns: minmax(260px, 420px) auto;
  gap: 12px;
  margin: 10px 0;
}
.pem {
  font-size: 0.78rem;
}
@media (max-width: 640px) {
  .cards {
    grid-template-columns: 1fr;
  }
}
</style>
