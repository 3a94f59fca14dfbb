<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, listed, type Schemas } from '../../api/client'
import { atTime, called, identifierWord, onDay, plural, words } from '../../shared/formats'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import DeviceActs from '../../shared/dialogs/DeviceActs.vue'
import StageChip from '../../shared/tables/StageChip.vue'
import { useTrail } from '../../shared/actions/useTrail'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import { useSession } from '../../shared/actions/useSession'
import ChangeList from '../../shared/tables/ChangeList.vue'
import { deviceQuery } from './deviceQuery'
import AdministratorPassword from './AdministratorPassword.vue'
import EffectiveTable from '../kits/EffectiveTable.vue'

const route = useRoute()
const router = useRouter()
const session = useSession()
const path = computed(() => ({ device_id: Number(route.params.id) }))
const { data: device, error } = useQuery(computed(() => deviceQuery(path.value.device_id)))
const { data: kit } = useQuery({
  queryKey: computed(() => ['device-kit', path.value]),
  queryFn: () => got(api.GET('/api/v1/devices/{device_id}/kit', { params: { path: path.value } })),
})
const { data: reports } = useQuery({
  queryKey: computed(() => ['device-reports', path.value]),
  queryFn: () =>
    listed(api.GET('/api/v1/devices/{device_id}/item-reports', { params: { path: path.value } })),
})
const { failure, run } = useAction()
const { final } = useVocabulary()
const form = reactive({ name: '' })

const { takeBack: revert } = useTrail()
const named = computed(() => {
  const [imei] = device.value?.identifiers.filter((one) => one.kind === 'imei') ?? []
  return device.value ? called({ ...device.value, imei: imei?.value }) : ''
})
const alone = computed(() => ({ ids: [path.value.device_id] }))
const endHold = (one: Schemas['Hold']) =>
  run(() =>
    got(
      api.POST('/api/v1/holds/{hold_id}/end', {
        params: { path: { hold_id: one.id } },
        body: one.kind === 'devices' ? { device_id: path.value.device_id } : {},
      }),
    ),
  )
const rename = () =>
  run(() =>
    got(
      api.POST('/api/v1/devices/{device_id}/name', {
        params: { path: path.value },
        body: { name: form.name },
      }),
    ),
  )
</script>

<template>
  <ProblemAlert :error="error ?? failure" />
  <template v-if="device">
    <div class="page-head">
      <h1>
        {{ named }}
        <StageChip :stage="device.stage" :flag="device.flag" />
      </h1>
      <span class="muted"
        >number {{ device.id }}, {{ device.stage }} since {{ atTime(device.stage_at) }}</span
      >
    </div>
    <DeviceActs
      :selection="alone"
      :label="named"
      :stage="device.stage"
      :reported="device.flag"
      :person="device.person_name"
      :erased="() => router.push('/sweeps')"
      class="mb-3"
    />
    <div class="columns">
      <div class="stack">
        <v-card class="pa-4">
          <h2 class="mb-2">Facts and who says so</h2>
          <dl class="facts">
            <template
              v-for="identifier in device.identifiers"
              :key="identifier.kind + identifier.value"
            >
              <dt>{{ identifierWord(identifier.kind) }}</dt>
              <dd class="mono">{{ identifier.value }}</dd>
              <dd class="muted">
                {{
                  identifier.given && identifier.given !== identifier.value
                    ? `given as ${identifier.given}`
                    : ''
                }}
              </dd>
            </template>
            <dt>person</dt>
            <dd>
              <router-link v-if="device.person_id" :to="`/people?person=${device.person_id}`">{{
                device.person_name
              }}</router-link><template v-else>–</template>
            </dd>
            <dd class="muted">{{ device.person_user_name }}</dd>
            <dt>last seen</dt>
            <dd>{{ device.last_seen_at ? onDay(device.last_seen_at) : 'never' }}</dd>
            <dd class="muted">{{ plural(device.idle_days, 'day') }} idle</dd>
            <template v-if="device.cohorts.length">
              <dt>cohorts</dt>
              <dd>
                <template v-for="(cohort, place) in device.cohorts" :key="cohort.id"
                  >{{ place ? ', ' : ''
                  }}<router-link :to="`/cohorts/${cohort.id}`">{{
                    cohort.name
                  }}</router-link></template
                >
              </dd>
              <dd />
            </template>
            <template v-if="device.sweep">
              <dt>sweep</dt>
              <dd>
                <template v-if="device.sweep.dormant_on"
                  >dormant on {{ onDay(device.sweep.dormant_on) }}, </template
                >retired on {{ onDay(device.sweep.retire_on) }}, unless it is seen before
              </dd>
              <dd class="muted">
                <router-link :to="`/sweeps?rule=${device.sweep.rule_id}`">{{
                  device.sweep.rule
                }}</router-link>: {{ plural(device.sweep.idle_window_days, 'day')
                }}<template v-if="device.sweep.others.length"
                  >, the longest window; {{ device.sweep.others.join(', ') }} watch it too</template
                >
              </dd>
            </template>
            <template v-for="seat in device.seats" :key="seat.pool_id">
              <dt>licence seat</dt>
              <dd>
                <router-link :to="`/licences/${seat.pool_id}`">{{ seat.pool }}</router-link>
              </dd>
              <dd class="muted">since {{ onDay(seat.since) }}</dd>
            </template>
            <template v-for="fact in device.facts" :key="fact.field">
              <dt>{{ words(fact.field) }}</dt>
              <dd>{{ fact.value }}</dd>
              <dd class="muted">
                <router-link
                  v-if="fact.basis.startsWith('lot')"
                  :to="`/lots/${device.lot_id}?row=${device.lot_row ?? ''}`"
                  >{{ fact.basis }}</router-link><template v-else>{{ fact.basis }}</template>
              </dd>
            </template>
            <template v-for="(value, header) in device.details" :key="header">
              <dt>{{ header }}</dt>
              <dd>{{ value }}</dd>
              <dd class="muted">detail of the lot</dd>
            </template>
          </dl>
        </v-card>
        <v-card v-if="kit && (kit.lines.length || kit.sheet || kit.checklist)" class="pa-4">
          <h2 class="mb-2">What it gets</h2>
          <EffectiveTable :kit="kit" :reports="reports ?? []" label="What it gets" />
          <AdministratorPassword
            v-if="kit.administrator && session.may('manage-devices')"
            :device="device.id"
            :user="kit.administrator"
          />
        </v-card>
        <v-card class="pa-4">
          <div class="row-gap mb-2">
            <h2>Timeline</h2>
            <router-link :to="`/journal?device=${device.id}`">All of it in the journal</router-link>
          </div>
          <ol class="timeline">
            <li v-for="happening in device.timeline" :key="happening.entry_id">
              <div class="row-gap">
                <router-link :to="`/journal?entry=${happening.entry_id}`" class="nowrap">{{
                  atTime(happening.at)
                }}</router-link>
                <strong>{{ happening.summary }}</strong>
                <span class="muted"
                  >by {{ happening.actor
                  }}<template v-if="happening.reason">: “{{ happening.reason }}”</template></span
                >
                <v-chip v-if="happening.reverted_by">reverted</v-chip>
                <v-btn
                  v-else-if="session.may('revert') && final(happening.operation) === null"
                  size="x-small"
                  variant="text"
                  color="primary"
                  @click="revert(happening.entry_id)"
                  >Take back</v-btn
                >
              </div>
              <ChangeList :changes="happening.changes" class="ml-4" />
            </li>
          </ol>
        </v-card>
      </div>
      <div v-if="session.may('manage-devices')" class="stack">
        <v-card class="pa-4 stack">
          <h2>Out of sweeps</h2>
          <div v-for="one in device.holds" :key="one.id">
            Held<template v-if="one.state === 'coming'"> from {{ onDay(one.from_on) }}</template>
            until {{ onDay(one.until_on)
            }}<template v-if="one.kind !== 'devices'">, as {{ one.label }}</template
            >: {{ one.reason }}
            <span class="muted">({{ one.owner }})</span>
            <v-btn
              v-if="one.kind === 'devices'"
              size="x-small"
              variant="text"
              color="primary"
              @click="endHold(one)"
              >End it</v-btn
            >
            <router-link v-else to="/sweeps?tab=holds">All holds</router-link>
          </div>
          <p v-if="!device.holds.length" class="muted">Nothing holds it.</p>
        </v-card>
        <v-card class="pa-4 stack">
          <h2>Name</h2>
          <v-text-field v-model="form.name" label="Name by hand" />
          <v-btn variant="outlined" color="primary" block :disabled="!form.name" @click="rename"
            >Name it</v-btn
          >
        </v-card>
      </div>
    </div>
  </template>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 270px;
  gap: 12px;
  align-items: start;
}
@media (max-width: 860px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
.facts {
  display: grid;
  grid-template-columns: minmax(110px, max-content) minmax(120px, 1fr) minmax(100px, max-content);
  gap: 4px 18px;
}
@media (max-width: 600px) {
  .facts {
    grid-template-columns: max-content minmax(0, 1fr);
  }
  .facts dd:nth-of-type(2n) {
    grid-column: 2;
    margin-bottom: 4px;
  }
}
.facts dt {
  color: rgba(var(--v-theme-on-surface), var(--v-medium-emphasis-opacity));
}
.facts dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.timeline {
  padding-left: 0;
  list-style: none;
}
.timeline li {
  padding: 7px 0;
}
.timeline li + li {
  border-top: 1px solid rgba(var(--v-border-color), var(--v-border-opacity));
}
</style>
