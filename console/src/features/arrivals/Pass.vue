<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { api, got, listed } from '../../api/client'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { atTime, number } from '../../shared/formats'
import { useAction } from '../../shared/actions/useAction'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ArrivalList from './ArrivalList.vue'
import { vReachable } from '../../shared/tables/reachable'

/** One pass (or all that were made with it): what it says, who used it, its arrivals. */
const route = useRoute()
const session = useSession()
const { label } = useVocabulary()
const { failure, busy, run } = useAction()
const id = computed(() => Number(route.params.id))
const path = computed(() => ({ params: { path: { pass_id: id.value } } }))
const { data: pass, error } = useQuery({
  queryKey: ['passes', id],
  queryFn: () => got(api.GET('/api/v1/passes/{pass_id}', path.value)),
})
const { data: people } = useQuery({
  queryKey: ['passes', id, 'people'],
  queryFn: () => listed(api.GET('/api/v1/passes/{pass_id}/people', path.value)),
})
const unused = computed(
  () => (people.value ?? []).filter((one) => !one.uses && !one.revoked_at && one.person_id).length,
)
const facts = computed(() => {
  const one = pass.value
  if (!one) return []
  return [
    ['State', one.state],
    ['Holds', `${atTime(one.valid_from)} to ${atTime(one.valid_until)}`],
    [
      'Uses',
      one.made > 1
        ? `by ${number(one.used)} of ${number(one.made)} people`
        : `${number(one.uses)}${one.max_uses ? ` of ${number(one.max_uses)}` : ''}`,
    ],
    ['Person proven by', label('sign_in_way', one.sign_in)],
    ['Passcode', one.has_passcode ? 'asked for' : 'none'],
    ['Devices come into use', label('activation', one.activation)],
    ['Declares', one.asks_ownership ? 'asks the person' : (one.ownership ?? 'nothing')],
    ['Devices join the list', one.cohort ?? '–'],
    ['Made', `${atTime(one.created_at)} by ${one.created_by}`],
  ]
})
const remind = () =>
  run(() => got(api.POST('/api/v1/passes/{pass_id}/remind', { ...path.value, body: {} })))
const revoke = (whole: boolean) =>
  run(() =>
    got(
      api.POST('/api/v1/passes/{pass_id}/revoke', { ...path.value, body: { whole_batch: whole } }),
    ),
  )
</script>

<template>
  <div class="page-head">
    <h1>{{ pass?.label ?? 'Pass' }}</h1>
    <template v-if="pass && session.may('prepare') && pass.state === 'valid'">
      <v-btn
        v-if="unused && (pass.made > 1 || pass.mailed_at)"
        variant="outlined"
        color="primary"
        :loading="busy"
        @click="remind"
        >Remind {{ number(unused) }} by mail</v-btn
      >
      <v-btn variant="text" color="error" :loading="busy" @click="revoke(pass.made > 1)">{{
        pass.made > 1 ? `Revoke all ${number(pass.made)}` : 'Revoke'
      }}</v-btn>
    </template>
  </div>
  <ProblemAlert :error="error ?? failure" />
  <v-card class="pa-4 mb-4">
    <dl class="facts">
      <template v-for="[name, value] in facts" :key="name">
        <dt class="muted">{{ name }}</dt>
        <dd>{{ value }}</dd>
      </template>
    </dl>
  </v-card>
  <template v-if="people?.some((one) => one.person_id)">
    <h2 class="mb-2">Who has one</h2>
    <v-card class="mb-4">
      <v-table v-reachable="'Who has a pass'" density="compact" class="people">
        <thead>
          <tr>
            <th>Person</th>
            <th>Mail</th>
            <th>Used</th>
            <th>Device</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in people" :key="one.id">
            <td>
              <router-link :to="`/people?person=${one.person_id}`">{{
                one.person_name
              }}</router-link>
            </td>
            <td>{{ one.mail_state ?? 'not mailed' }}</td>
            <td>{{ one.uses ? 'yes' : one.revoked_at ? 'revoked' : 'not yet' }}</td>
            <td>
              <router-link v-if="one.device_id" :to="`/devices/${one.device_id}`">{{
                one.device_name ?? `device no. ${one.device_id}`
              }}</router-link>
              <template v-else>–</template>
            </td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
  </template>
  <h2 class="mb-2">Arrivals with it</h2>
  <ArrivalList view="all" :pass-id="id" />
</template>

<style scoped>
.facts {
  display: grid;
  grid-template-columns: max-content 1fr max-content 1fr;
  gap: 4px 18px;
}
.facts dd {
  margin: 0;
}
.people {
  max-height: 360px;
  overflow: auto;
}
@media (max-width: 800px) {
  .facts {
    grid-template-columns: max-content 1fr;
  }
}
</style>
