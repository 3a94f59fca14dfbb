<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, listed, type Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useAction } from '../../shared/actions/useAction'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { number, onDay, plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import ItemDialog from './ItemDialog.vue'
import LintList from './LintList.vue'
import { givenTo, lasting, platforms, through } from './items'

/** One item: what it is, who gets it through what, how far the devices are, who failed and why. */
const route = useRoute()
const router = useRouter()
const session = useSession()
const preview = usePreview()
const { label } = useVocabulary()
const items = useDocuments<Schemas['Item'], Schemas['ItemDetail']>('/api/v1/items')
const path = computed(() => ({ key: String(route.params.id) }))
const key = (what: string) => computed(() => [what, path.value.key])
const { data: item, error } = useQuery({
  queryKey: key('item'),
  queryFn: () => got(api.GET('/api/v1/items/{key}', { params: { path: path.value } })),
})
const { data: getting } = useQuery({
  queryKey: key('getting'),
  queryFn: () => got(api.GET('/api/v1/items/{key}/getting', { params: { path: path.value } })),
})
const { data: states } = useQuery({
  queryKey: key('states'),
  queryFn: () => got(api.GET('/api/v1/items/{key}/states', { params: { path: path.value } })),
})
const { data: all } = useQuery({
  queryKey: ['kit-lints'],
  queryFn: () => listed(api.GET('/api/v1/kit-lints')),
})
const lints = computed(() =>
  (all.value ?? []).filter((one) => one.kind === 'item' && one.id === item.value?.id),
)
const open = ref(false)
const devicesWith = (attribute: string) => ({
  path: '/devices',
  query: { filter: `${attribute} eq ${JSON.stringify(item.value?.name ?? '')}` },
})
const LISTED: Record<string, string> = {
  working: 'items.working',
  done: 'items.done',
  failed: 'items.failed',
}
const told = computed(() =>
  Object.entries(states.value?.states ?? {}).filter(([, devices]) => devices),
)
const verdicts = computed(() =>
  Object.entries(getting.value?.devices ?? {}).filter(([, devices]) => devices),
)
const columns = [
  { key: 'code', title: 'Code' },
  { key: 'words', title: 'What one of them said' },
  { key: 'devices', title: 'Devices', number: true },
]

const code = ref<Schemas['NetworkCode'] | null>(null)
const looking = useAction()
/** Nothing is sent before it is asked for: each look stands in the journal. */
const showCode = () =>
  looking.run(async () => {
    code.value = await got(
      api.POST('/api/v1/items/{key}/network-code', { params: { path: path.value } }),
    )
  }, false)
const picture = computed(
  () => `data:image/svg+xml;utf8,${encodeURIComponent(code.value?.svg ?? '')}`,
)

function retry() {
  const body = { item: path.value.key, selection: { filter: 'id pr' } }
  void preview.open({
    look: () => got(api.POST('/api/v1/item-retries/preview', { body })),
    act: (digest, reason) =>
      got(api.POST('/api/v1/item-retries/apply', { body: { ...body, digest, reason } })),
  })
}
</script>

<template>
  <ProblemAlert :error="error" />
  <template v-if="item">
    <div class="page-head">
      <h1>{{ item.name }}</h1>
      <span class="muted">{{ label('item_kind', item.payload.kind) }}, {{ item.says }}</span>
      <v-btn variant="text" to="/kits?tab=items">All items</v-btn>
      <template v-if="session.may('prepare')">
        <v-btn color="primary" variant="outlined" @click="open = true">Change</v-btn>
        <v-btn variant="text" @click="items.remove(item, () => router.push('/kits?tab=items'))"
          >Remove</v-btn
        >
      </template>
    </div>
    <LintList :lints="lints" class="mb-3" />
    <div class="halves">
      <v-card class="pa-4">
        <h2 class="mb-2">What it is</h2>
        <dl class="facts">
          <dt>version</dt>
          <dd>{{ item.version }}</dd>
          <dt>platforms</dt>
          <dd>{{ platforms(item.for_platforms, (one) => label('platform', one)) }}</dd>
          <template v-if="item.applies_when">
            <dt>applies when</dt>
            <dd class="mono">{{ item.applies_when }}</dd>
          </template>
          <template v-if="item.hand_needed">
            <dt>at the device</dt>
            <dd>somebody must be there</dd>
          </template>
          <template v-if="item.certificate">
            <dt>certificate</dt>
            <dd>
              {{ item.certificate.name }}, of {{ item.certificate.issuer }}, until
              {{ onDay(item.certificate.ends_on) }}
            </dd>
          </template>
          <template v-if="item.given?.length">
            <dt>given by itself</dt>
            <dd>{{ givenTo(item.given) }}</dd>
          </template>
          <template v-if="item.note">
            <dt>note</dt>
            <dd>{{ item.note }}</dd>
          </template>
        </dl>
      </v-card>
      <v-card
        v-if="
          session.may('prepare') &&
          item.payload.kind === 'network' &&
          ['open', 'secret'].includes(item.payload.security)
        "
        class="pa-4"
      >
        <h2 class="mb-2">Join it by camera</h2>
        <ProblemAlert :error="looking.failure.value" />
        <img v-if="code" :src="picture" :alt="`QR code to join ${item.name}`" class="code" />
        <template v-else>
          <p class="muted mb-2">The code holds the secret; each look stands in the journal.</p>
          <v-btn variant="outlined" color="primary" size="small" @click="showCode"
            >Show the code</v-btn
          >
        </template>
      </v-card>
      <v-card class="pa-4">
        <h2 class="mb-2">Who gets it</h2>
        <p v-if="!verdicts.length" class="muted">Nobody.</p>
        <ul class="plain">
          <li v-for="[verdict, devices] in verdicts" :key="verdict">
            <router-link
              v-if="verdict === 'required' || verdict === 'offered'"
              :to="devicesWith('items')"
              >{{ plural(devices, 'device') }}</router-link><template v-else>{{
              plural(devices, 'device')
            }}</template
            >: {{ label('item_verdict', verdict) }}
          </li>
        </ul>
        <p v-if="getting?.through.length" class="muted mt-2">Through</p>
        <ul class="plain">
          <li v-for="(one, at) in getting?.through ?? []" :key="at">
            {{ through(one.through) }}: {{ plural(one.devices, 'device') }}
          </li>
        </ul>
      </v-card>
      <v-card class="pa-4">
        <h2 class="mb-2">How far the devices are</h2>
        <p v-if="!told.length" class="muted">No device gets it.</p>
        <ul class="plain">
          <li v-for="[state, devices] in told" :key="state">
            <router-link v-if="LISTED[state]" :to="devicesWith(LISTED[state])">{{
              number(devices)
            }}</router-link><template v-else>{{ number(devices) }}</template>
            {{ label('item_state', state) }}
          </li>
        </ul>
        <p v-if="states?.times" class="muted mt-2">
          It usually takes {{ lasting(states.times.median_seconds) }}, and on 19 of 20 devices no
          longer than {{ lasting(states.times.p95_seconds) }} ({{
            plural(states.times.devices, 'device')
          }}
          told so).
        </p>
      </v-card>
    </div>
    <section v-if="states?.failures.length" class="mt-4">
      <div class="page-head">
        <h2>Why it failed</h2>
        <v-btn
          v-if="session.may('manage-devices')"
          variant="outlined"
          color="primary"
          size="small"
          @click="retry"
          >Try it again where it failed</v-btn
        >
      </div>
      <DataList
        label="Failures"
        :columns="columns"
        :items="states.failures"
        :row-key="(one) => one.code ?? ''"
      >
        <template #code="{ item: one }"
          ><span class="mono">{{ one.code ?? 'no code' }}</span></template
        >
        <template #devices="{ item: one }"
          ><router-link :to="devicesWith('items.failed')">{{
            number(one.devices)
          }}</router-link></template
        >
      </DataList>
    </section>
    <ItemDialog v-model="open" :item="item" />
  </template>
</template>

<style scoped>
.halves {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(340px, 100%), 1fr));
  gap: 12px;
  align-items: start;
}
.facts {
  display: grid;
  grid-template-columns: max-content minmax(0, 1fr);
  gap: 4px 18px;
}
.facts dt {
  color: rgba(var(--v-theme-on-surface), var(--v-medium-emphasis-opacity));
}
.facts dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.code {
  width: 220px;
  background: #fff;
}
.plain {
  padding-left: 0;
  list-style: none;
}
</style>
