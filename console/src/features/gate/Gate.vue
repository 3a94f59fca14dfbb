<script setup lang="ts">
import { mdiArrowDown, mdiArrowUp, mdiCheck, mdiClose, mdiDeleteOutline, mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref, watch } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import StageChip from '../../shared/tables/StageChip.vue'
import { usePreview } from '../../shared/actions/usePreview'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { useSession } from '../../shared/actions/useSession'

type Policy = Schemas['Policy']
const BOUNDS = { os_min: 'from', os_max: 'up to' }
type Platform = Schemas['Platform']
const session = useSession()
const { choices, label, words: wordsOf } = useVocabulary()
const platforms = computed(() => wordsOf('platform').map((one) => one.value as Platform))
const preview = usePreview()
const { data: gate, error } = useQuery({
  queryKey: ['gate'],
  queryFn: () => got(api.GET('/api/v1/gate')),
})
const { data: groups } = useQuery({
  queryKey: ['groups'],
  queryFn: () => got(api.GET('/api/v1/groups')),
})
const policies = ref<Policy[]>([])
watch(
  gate,
  (saved) =>
    (policies.value = structuredClone(saved ? JSON.parse(JSON.stringify(saved.policies)) : [])),
  { immediate: true },
)
const changed = computed(
  () => gate.value && JSON.stringify(gate.value.policies) !== JSON.stringify(policies.value),
)
const last = computed(() => policies.value.length - 1)

function setRule(policy: Policy, platform: Platform, state: string) {
  policy.platforms ??= {}
  if (state === 'unstated') delete policy.platforms[platform]
  else policy.platforms[platform] = { ...policy.platforms[platform], open: state === 'open' }
}

const bound = (value: string) => value.trim() || null
const quota = (value: string) => (value === '' ? null : Number(value))

function add() {
  policies.value.splice(last.value, 0, {
    name: `Policy ${policies.value.length}`,
    groups: [],
    platforms: {},
    ownerships: null,
    quota: null,
    declared_only: null,
    returning: null,
  })
}

function move(from: number, to: number) {
  const [policy] = policies.value.splice(from, 1)
  if (policy) policies.value.splice(to, 0, policy)
}

function save() {
  const body = { policies: policies.value }
  void preview.open({
    look: () => got(api.POST('/api/v1/gate/preview', { body })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/gate/apply', {
          body: { ...body, digest, reason },
          params: { header: { 'if-match': `"${gate.value?.revision}"` } },
        }),
      ),
  })
}

const imagined = reactive({
  platform: 'android' as Platform,
  os_version: '',
  ownership: null as Schemas['Ownership'] | null,
  person: '',
  identifier: '',
})
const decision = ref<Schemas['Decision'] | null>(null)
const { failure, run } = useAction()

async function attempt() {
  decision.value = null
  await run(async () => {
    decision.value = await got(
      api.POST('/api/v1/gate/try', {
        body: {
          platform: imagined.platform,
          os_version: imagined.os_version || null,
          ownership: imagined.ownership,
          person: imagined.person || null,
          identifier: imagined.identifier || null,
          policies: changed.value ? policies.value : null,
        },
      }),
    )
  })
}
</script>

<template>
  <div class="page-head">
    <h1>Gate</h1>
    <template v-if="session.may('prepare')">
      <v-btn variant="text" :prepend-icon="mdiPlus" @click="add">Add a policy</v-btn>
      <v-btn color="primary" :disabled="!changed" @click="save">Preview and save</v-btn>
    </template>
  </div>
  <p class="muted mb-3">
    For each question, the first policy that is for the person and answers it decides. The last one,
    the baseline, is for everybody and answers everything.
  </p>
  <ProblemAlert :error="error" />
  <div class="columns">
    <div class="stack">
      <v-card v-for="(policy, place) in policies" :key="place" class="pa-4">
        <div class="row-gap mb-2">
          <span class="muted">{{ place + 1 }}.</span>
          <v-text-field
            v-model="policy.name"
            label="Policy"
            class="name"
            :readonly="!session.may('prepare')"
          />
          <v-select
            v-if="place !== last"
            v-model="policy.groups"
            :items="(groups ?? []).map((one) => one.name)"
            label="For people in"
            multiple
            chips
            class="name"
            :readonly="!session.may('prepare')"
          />
          <span v-else class="muted">for everyone</span>
          <v-spacer />
          <template v-if="session.may('prepare') && place !== last">
            <v-btn
              :icon="mdiArrowUp"
              size="x-small"
              variant="text"
              :disabled="place === 0"
              :aria-label="`Move ${policy.name} up`"
              @click="move(place, place - 1)"
            />
            <v-btn
              :icon="mdiArrowDown"
              size="x-small"
              variant="text"
              :disabled="place === last - 1"
              :aria-label="`Move ${policy.name} down`"
              @click="move(place, place + 1)"
            />
            <v-btn
              :icon="mdiDeleteOutline"
              size="x-small"
              variant="text"
              :aria-label="`Remove ${policy.name}`"
              @click="policies.splice(place, 1)"
            />
          </template>
        </div>
        <table class="facets">
          <thead class="muted">
            <tr>
              <th scope="col">Platform</th>
              <th scope="col">Door</th>
              <th scope="col">OS from</th>
              <th scope="col">OS up to</th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="platform in platforms"
              :key="platform"
              :class="{ muted: !policy.platforms?.[platform] }"
            >
              <th scope="row">{{ label('platform', platform) }}</th>
              <td>
                <select
                  :value="
                    policy.platforms?.[platform]
                      ? policy.platforms[platform]?.open
                        ? 'open'
                        : 'closed'
                      : 'unstated'
                  "
                  :disabled="!session.may('prepare')"
                  :aria-label="`${policy.name}: ${platform}`"
                  @change="setRule(policy, platform, ($event.target as HTMLSelectElement).value)"
                >
                  <option v-if="place !== last" value="unstated">not stated</option>
                  <option value="open">open</option>
                  <option value="closed">closed</option>
                </select>
              </td>
              <template v-for="side in ['os_min', 'os_max'] as const" :key="side">
                <td>
                  <input
                    v-if="policy.platforms?.[platform]?.open"
                    :value="policy.platforms[platform]?.[side] ?? ''"
                    :readonly="!session.may('prepare')"
                    size="8"
                    placeholder="any"
                    :aria-label="`${policy.name}: ${platform} ${BOUNDS[side]} version`"
                    @change="
                      policy.platforms[platform]![side] = bound(
                        ($event.target as HTMLInputElement).value,
                      )
                    "
                  />
                </td>
              </template>
            </tr>
          </tbody>
        </table>
        <div class="grid mt-3">
          <v-select
            v-model="policy.ownerships"
            :items="choices('ownership')"
            label="Ownerships let in"
            multiple
            :clearable="place !== last"
            :readonly="!session.may('prepare')"
            placeholder="not stated"
            persistent-placeholder
          />
          <v-text-field
            :model-value="policy.quota ?? ''"
            label="Devices per person"
            type="number"
            placeholder="not stated"
            persistent-placeholder
            :readonly="!session.may('prepare')"
            @update:model-value="policy.quota = quota(String($event))"
          />
          <v-select
            v-model="policy.declared_only"
            label="Undeclared devices"
            :readonly="!session.may('prepare')"
            :items="[
              { title: 'not stated', value: null },
              { title: 'may come in', value: false },
              { title: 'are refused', value: true },
            ]"
          />
          <v-select
            v-model="policy.returning"
            :items="choices('returning')"
            label="Retired ones that return"
            :clearable="place !== last"
            :readonly="!session.may('prepare')"
            placeholder="not stated"
            persistent-placeholder
          />
        </div>
      </v-card>
    </div>
    <v-card class="pa-4 stack try">
      <h2>Try a device</h2>
      <p class="muted">
        Nothing is written{{ changed ? '; the changes beside are tried, saved or not' : '' }}.
      </p>
      <form class="stack" @submit.prevent="attempt">
        <v-select v-model="imagined.platform" :items="choices('platform')" label="Platform" />
        <v-text-field v-model="imagined.os_version" label="OS version" />
        <v-select
          v-model="imagined.ownership"
          :items="choices('ownership')"
          label="Declared as"
          clearable
        />
        <v-text-field v-model="imagined.person" label="Person (user name or mail)" />
        <v-text-field v-model="imagined.identifier" label="A real device's serial or IMEI" />
        <v-btn type="submit" color="primary" variant="outlined" block>Try it</v-btn>
      </form>
      <ProblemAlert :error="failure" />
      <div v-if="decision" aria-live="polite">
        <StageChip :stage="decision.outcome" />
        <div v-for="reason in decision.reasons" :key="reason.code" class="mt-2">
          {{ reason.explanation }}
          <span class="muted">{{ reason.remedy }}</span>
        </div>
        <table class="trace mt-3">
          <caption class="visually-hidden">
            The gate's trace
          </caption>
          <tbody>
            <tr
              v-for="(step, place) in decision.trace"
              :key="place"
              :class="{ 'tone-bad': !step.passed }"
            >
              <td>
                <v-icon
                  :icon="step.passed ? mdiCheck : mdiClose"
                  size="16"
                  :aria-label="step.passed ? 'passed' : 'failed'"
                />
              </td>
              <th scope="row">{{ step.facet }}</th>
              <td>{{ step.explanation || step.actual }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </v-card>
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 330px;
  gap: 12px;
  align-items: start;
}
@media (max-width: 960px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
.name {
  max-width: 260px;
  min-width: 180px;
}
.facets {
  border-collapse: collapse;
  display: block;
  overflow-x: auto;
}
.facets th,
.facets td {
  text-align: left;
  padding: 2px 14px 2px 0;
  font-weight: 400;
}
.facets tbody th {
  font-weight: 560;
}
select,
.facets input {
  border: 1px solid rgba(var(--v-theme-on-surface), 0.35);
  border-radius: 4px;
  padding: 2px 6px;
  background: transparent;
  color: inherit;
  font: inherit;
}
option {
  color: #111;
}
.grid {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(160px, 1fr));
  gap: 8px;
}
.trace {
  border-collapse: collapse;
  width: 100%;
}
.trace th,
.trace td {
  text-align: left;
  vertical-align: top;
  padding: 3px 8px 3px 0;
  font-weight: 500;
}
</style>
