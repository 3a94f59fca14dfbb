<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, nextTick, onMounted, ref, useTemplateRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, listed, type Schemas } from '../../api/client'
import { useDocuments } from '../../shared/actions/useDocuments'
import { usePreview } from '../../shared/actions/usePreview'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { atTime, number, onDay, plural } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import PoolDialog from './PoolDialog.vue'
import PoolPicture from './PoolPicture.vue'
import PoolState from './PoolState.vue'
import { actTitle } from './acts'
import VoucherBox from './VoucherBox.vue'

/** One pool: its seats over time, its vouchers, and the ways back to covered. */
const route = useRoute()
const router = useRouter()
const session = useSession()
const preview = usePreview()
const { label } = useVocabulary()
const key = computed(() => String(route.params.id))
const path = computed(() => ({ key: key.value }))
const { data: pool, error } = useQuery({
  queryKey: computed(() => ['pool', key.value]),
  queryFn: () => got(api.GET('/api/v1/pools/{key}', { params: { path: path.value } })),
})
const { data: course } = useQuery({
  queryKey: computed(() => ['pool-course', key.value]),
  queryFn: () => got(api.GET('/api/v1/pools/{key}/course', { params: { path: path.value } })),
})
const {
  data: grants,
  error: grantsError,
  isFetching,
} = useQuery({
  queryKey: computed(() => ['pool-grants', key.value]),
  queryFn: () => listed(api.GET('/api/v1/pools/{key}/grants', { params: { path: path.value } })),
})
const editing = ref(false)
const documents = useDocuments<Schemas['Pool'], Schemas['PoolDetail']>('/api/v1/pools')
const remove = () => documents.remove(pool.value!, () => void router.push('/licences'))
const box = useTemplateRef('box')
const columns = [
  { key: 'used_as', title: 'Voucher' },
  { key: 'granted_on', title: 'On' },
  { key: 'act', title: 'How' },
  { key: 'seats', title: 'Seats', number: true },
  { key: 'days', title: 'Days', number: true },
  { key: 'by', title: 'By' },
  { key: 'entry', title: 'Journal' },
  { key: 'do', title: '' },
]
const turned = computed(() =>
  (course.value?.turned_away ?? [])
    .map((one) => `${number(one.number)} ${label('outcome', one.outcome)}`)
    .join(', '),
)
const forecast = computed(() => {
  const found = course.value
  if (!found) return ''
  if (!found.short_on) return 'They suffice for the 400 days that are looked ahead.'
  if (found.short_on === found.today) return `${plural(found.short_of, 'seat')} missing today.`
  const why = found.short_by_end ? 'because seats end' : 'as devices come'
  const missing = plural(found.short_of, 'seat')
  return `Short on ${onDay(found.short_on)}, ${why}: ${missing} missing then.`
})
/** Everything that a later voucher was booked upon stays. */
const last = computed(() => grants.value?.find((one) => !one.reverted_at)?.id)
const canGoBack = (one: Schemas['Grant']) =>
  !one.reverted_at && isRecent(one.at) && (pool.value?.term === 'each' || one.id === last.value)
/** For so many days a voucher can be taken back. */
const isRecent = (at: string) =>
  Date.parse(course.value?.today ?? at) - Date.parse(at) <= 30 * 86_400_000
const canComeAgain = (one: Schemas['Grant']) =>
  one.reverted_at !== null &&
  !grants.value?.some((other) => other.voucher === one.voucher && other.id > one.id)

onMounted(async () => {
  await nextTick()
  if (route.query.edit) editing.value = true
})

function takeBack(one: Schemas['Grant']) {
  const params = { path: { entry_id: one.entry_id } }
  void preview.open({
    look: () => got(api.POST('/api/v1/journal/{entry_id}/revert/preview', { params })),
    act: (digest, reason) =>
      got(api.POST('/api/v1/journal/{entry_id}/revert', { params, body: { digest, reason } })),
  })
}
</script>

<template>
  <ProblemAlert :error="error" />
  <template v-if="pool">
    <div class="page-head">
      <div class="title">
        <h1>{{ pool.name }}</h1>
        <PoolState :pool="pool" />
      </div>
      <v-spacer />
      <template v-if="session.may('license')">
        <v-btn variant="text" color="primary" @click="editing = true">Change</v-btn>
        <v-btn variant="text" color="error" @click="remove">Remove</v-btn>
      </template>
    </div>
    <div class="columns">
      <v-card class="pa-3">
        <h2>Seats and needs</h2>
        <PoolPicture v-if="course" :course="course" />
        <p>{{ forecast }}</p>
        <p v-if="course" class="muted">
          In 90 days {{ plural(course.came, 'device') }} came and {{ number(course.went) }} went;
          {{ number(course.awaited) }} are awaited, and usually come within
          {{ plural(course.usual_days, 'day') }}.
        </p>
      </v-card>
      <v-card class="pa-3">
        <h2>Today</h2>
        <dl>
          <dt>Needed</dt>
          <dd>
            <router-link :to="`/devices?pool=${pool.id}`">{{
              plural(pool.needed, 'device')
            }}</router-link><template v-if="course?.people">
              of
              <router-link :to="`/people?pool=${pool.id}`"
                >{{ number(course.people) }} people</router-link
              ></template
            >
          </dd>
          <dt>Seats</dt>
          <dd>
            {{ number(pool.held)
            }}<template v-if="pool.seats">, {{ number(pool.seats) }} without an end</template
            ><template v-if="pool.in_grace"
              >, {{ number(pool.in_grace) }} only until {{ onDay(pool.lasts_on) }}</template
            >
          </dd>
          <dt>Free</dt>
          <dd>{{ number(pool.free) }}</dd>
          <dt>Seats end on</dt>
          <dd>{{ onDay(pool.ends_on) }}</dd>
          <template v-if="pool.seat_days !== null">
            <dt>Seat-days left</dt>
            <dd>{{ number(pool.seat_days) }}</dd>
          </template>
          <dt>Who needs one</dt>
          <dd>
            <span v-if="pool.filter" class="mono">{{ pool.filter }}</span><template v-else
              >all devices in use</template
            ><template v-if="pool.awaited_too">, awaited ones too</template>
          </dd>
          <dt>No seat free</dt>
          <dd>
            an arriving device is {{ label('shortage', pool.when_short)
            }}<template v-if="turned"
              >; in 90 days <router-link to="/arrivals">{{ turned }}</router-link></template
            >
          </dd>
          <dt>Vouchers</dt>
          <dd>
            for “{{ pool.product ?? pool.name }}”; {{ label('term', pool.term)
            }}<template v-if="pool.grace_days"
              >, {{ plural(pool.grace_days, 'day') }} of grace</template
            >
          </dd>
          <template v-if="pool.price">
            <dt>Price</dt>
            <dd>{{ pool.price }} {{ pool.currency }} a seat and month</dd>
          </template>
        </dl>
        <template v-if="course?.ways.length">
          <h2>Ways back to covered</h2>
          <ul>
            <li v-for="way in course.ways" :key="way.code">
              <a
                v-if="way.code === 'narrow' || way.code === 'awaited'"
                href="#"
                @click.prevent="editing = true"
                >{{ way.words }}</a
              >
              <template v-else-if="way.code === 'buy'">{{ way.words }} (below)</template>
              <router-link v-else :to="way.page">{{ way.words }}</router-link>
            </li>
          </ul>
        </template>
      </v-card>
    </div>
    <VoucherBox ref="box" :pool="pool" class="mt-3" />
    <h2 class="mt-5">Vouchers of this pool</h2>
    <DataList
      label="Vouchers"
      :columns="columns"
      :items="grants ?? []"
      :row-key="(one) => one.id"
      :loading="isFetching"
      :error="grantsError"
      empty="None yet."
    >
      <template #used_as="{ item }"
        ><strong>{{ item.used_as }}</strong
        ><template v-if="item.trial">, for trial</template>
        <div class="muted">{{ item.issuer_name }}</div></template
      >
      <template #granted_on="{ item }">{{ onDay(item.granted_on) }}</template>
      <template #act="{ item }">{{ actTitle(label('act', item.act)) }}</template>
      <template #seats="{ item }">{{ number(item.seats) }}</template>
      <template #days="{ item }">{{ number(item.days) }}</template>
      <template #by="{ item }"
        >{{ item.by }}
        <div v-if="item.reason" class="muted">{{ item.reason }}</div></template
      >
      <template #entry="{ item }"
        ><router-link :to="`/journal?entry=${item.entry_id}`">{{
          item.entry_id
        }}</router-link></template
      >
      <template #do="{ item }">
        <span v-if="item.reverted_at" class="muted"
          >taken back {{ atTime(item.reverted_at) }} by {{ item.reverted_by }}</span
        >
        <template v-if="session.may('license')">
          <v-btn
            v-if="canGoBack(item)"
            size="small"
            variant="text"
            color="error"
            @click="takeBack(item)"
            >Take back</v-btn
          >
          <v-btn
            v-if="canComeAgain(item)"
            size="small"
            variant="text"
            color="primary"
            @click="box?.put(item.token)"
            >Use it again</v-btn
          >
        </template>
      </template>
    </DataList>
    <PoolDialog v-model="editing" :pool="pool" />
  </template>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(280px, 2fr);
  gap: 12px;
}
@media (max-width: 960px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
h2 {
  font-size: 1rem;
  margin-bottom: 6px;
}
.title {
  display: flex;
  gap: 12px;
  align-items: center;
}
dl + h2 {
  margin-top: 14px;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 4px 14px;
}
dd {
  min-width: 0;
  overflow-wrap: anywhere;
}
ul {
  padding-left: 20px;
}
</style>
