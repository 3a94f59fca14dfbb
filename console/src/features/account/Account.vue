<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, got, listed, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { useSession } from '../../shared/actions/useSession'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { atTime, onDay } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import AccountList from './AccountList.vue'
import { vFirst } from '../../shared/fields/first'

/** Your own account, or for administrators anybody's: where it is signed in, and its tokens. */
const route = useRoute()
const session = useSession()
const { label, choices } = useVocabulary()
const administers = computed(() => session.may('administer'))
const whose = computed(() => (route.query.account ? Number(route.query.account) : undefined))
const { data: accounts } = useQuery({
  queryKey: ['accounts'],
  queryFn: () => listed(api.GET('/api/v1/accounts')),
  enabled: administers,
})
const other = computed(() => accounts.value?.find((one) => one.id === whose.value)?.name)
const of = computed(() => ({ params: { query: { account: whose.value } } }))
const sessions = useQuery({
  queryKey: computed(() => ['sessions', whose.value]),
  queryFn: () => listed(api.GET('/api/v1/sessions', of.value)),
})
const tokens = useQuery({
  queryKey: computed(() => ['tokens', whose.value]),
  queryFn: () => listed(api.GET('/api/v1/tokens', of.value)),
})
const sessionColumns = [
  { key: 'created_at', title: 'Signed in' },
  { key: 'address', title: 'From' },
  { key: 'used_at', title: 'Used last' },
  { key: 'expires_at', title: 'Ends' },
  { key: 'act', title: '' },
]
const tokenColumns = [
  { key: 'name', title: 'Token' },
  { key: 'purpose', title: 'What it is for' },
  { key: 'role', title: 'May do' },
  { key: 'created_at', title: 'Made' },
  { key: 'used_at', title: 'Used last' },
  { key: 'expires_at', title: 'Ends' },
  { key: 'act', title: '' },
]
const { failure, run, busy, forget } = useAction()

const end = (session_id: number) =>
  run(() =>
    got(
      api.DELETE('/api/v1/sessions/{session_id}', {
        params: { path: { session_id }, query: { account: whose.value } },
      }),
    ),
  )
const revoke = (token_id: number) =>
  run(() =>
    got(
      api.DELETE('/api/v1/tokens/{token_id}', {
        params: { path: { token_id }, query: { account: whose.value } },
      }),
    ),
  )

// ---- a token

const making = ref(false)
const made = ref<Schemas['TokenSecret'] | null>(null)
const token = reactive({
  name: '',
  role: 'viewer' as Schemas['Role'],
  purpose: 'interface' as Schemas['Purpose'],
  days: 90,
})
const roles = computed(() => {
  const all = choices('role')
  return all.slice(0, all.findIndex((one) => one.value === session.me?.role) + 1)
})
function newToken() {
  Object.assign(token, { name: '', role: 'viewer', purpose: 'interface', days: 90 })
  made.value = null
  forget()
  making.value = true
}
const make = () =>
  run(async () => {
    const body = { ...token, days: Number(token.days) }
    made.value = await got(api.POST('/api/v1/tokens', { body }))
    making.value = false
  })
/** Browsers let pages copy only over TLS or on this machine; elsewhere it is marked by hand. */
const copies = 'clipboard' in navigator
const copy = (text: string) => navigator.clipboard.writeText(text)

// ---- the password

const changing = ref(false)
const changed = ref(false)
const password = reactive({ current: '', fresh: '', again: '', keep: false })
function newPassword() {
  Object.assign(password, { current: '', fresh: '', again: '', keep: false })
  changed.value = false
  forget()
  changing.value = true
}
const differs = computed(() => password.again !== '' && password.again !== password.fresh)
const change = () =>
  run(async () => {
    const body = {
      current_password: password.current,
      new_password: password.fresh,
      keep_tokens: password.keep,
    }
    await got(api.PUT('/api/v1/session/password', { body }))
    changing.value = false
    changed.value = true
  })
</script>

<template>
  <div class="page-head">
    <h1>{{ whose === undefined ? 'Your account' : `Account ${other ?? whose}` }}</h1>
    <router-link v-if="whose !== undefined" to="/account">Your own account</router-link>
    <template v-else>
      <span class="muted">{{ session.me?.name }} · {{ label('role', session.me?.role) }}</span>
      <v-btn variant="outlined" color="primary" @click="newPassword">Change your password</v-btn>
      <v-btn color="primary" @click="newToken">Make a token</v-btn>
    </template>
  </div>
  <ProblemAlert v-if="!making && !changing" :error="failure" />
  <v-alert v-if="changed" type="success" class="mb-3" role="status"
    >The password is changed. Your other sessions have ended{{
      password.keep ? '' : ', and your tokens are revoked'
    }}.</v-alert
  >
  <v-card v-if="made" class="pa-4 mb-3" role="status">
    <p>The token’s secret. Copy it now: it is not shown again.</p>
    <code class="secret">{{ made.secret }}</code>
    <div class="row-gap mt-2">
      <v-btn
        v-if="copies"
        variant="outlined"
        color="primary"
        size="small"
        @click="copy(made.secret)"
        >Copy it</v-btn
      >
      <v-btn variant="text" size="small" @click="made = null">Done</v-btn>
    </div>
  </v-card>
  <section class="mb-5" aria-labelledby="sessions">
    <h2 id="sessions" class="mb-2">Signed in to this console</h2>
    <DataList
      label="Sessions"
      :columns="sessionColumns"
      :items="sessions.data.value ?? []"
      :row-key="(one) => one.id"
      :loading="sessions.isFetching.value"
      :error="sessions.error.value"
      empty="Signed in nowhere."
    >
      <template #created_at="{ item }">{{ atTime(item.created_at) }}</template>
      <template #address="{ item }">{{ item.address ?? '–' }}</template>
      <template #used_at="{ item }">{{ atTime(item.used_at) }}</template>
      <template #expires_at="{ item }">{{ atTime(item.expires_at) }}</template>
      <template #act="{ item }"
        ><v-btn size="x-small" variant="text" color="primary" :loading="busy" @click="end(item.id)"
          >End<span class="visually-hidden">
            the session of {{ atTime(item.created_at) }}</span
          ></v-btn
        ></template
      >
    </DataList>
  </section>
  <section class="mb-5" aria-labelledby="tokens">
    <h2 id="tokens" class="mb-2">Tokens, for commands, scripts and calendars</h2>
    <DataList
      label="Tokens"
      :columns="tokenColumns"
      :items="tokens.data.value ?? []"
      :row-key="(one) => one.id"
      :loading="tokens.isFetching.value"
      :error="tokens.error.value"
      empty="No tokens. The terminal makes one by itself when you sign in there."
    >
      <template #purpose="{ item }">{{ label('purpose', item.purpose) }}</template>
      <template #role="{ item }">{{ item.role }}</template>
      <template #created_at="{ item }">{{ onDay(item.created_at) }}</template>
      <template #used_at="{ item }">{{ item.used_at ? atTime(item.used_at) : 'never' }}</template>
      <template #expires_at="{ item }">{{ onDay(item.expires_at) }}</template>
      <template #act="{ item }"
        ><v-btn
          size="x-small"
          variant="text"
          color="primary"
          :loading="busy"
          @click="revoke(item.id)"
          >Revoke<span class="visually-hidden"> {{ item.name }}</span></v-btn
        ></template
      >
    </DataList>
  </section>
  <AccountList v-if="administers" :chosen="whose" />
  <EditDialog
    v-model="making"
    title="Make a token"
    label="Make the token"
    :failure="failure"
    :busy="busy"
    :ready="token.name.trim() !== '' && Number(token.days) >= 1 && Number(token.days) <= 398"
    @save="make"
  >
    <v-text-field v-model="token.name" label="What uses it" v-first maxlength="100" />
    <v-select v-model="token.purpose" :items="choices('purpose')" label="What it is for" />
    <v-select v-model="token.role" :items="roles" label="What it may do at most" />
    <v-text-field v-model="token.days" type="number" min="1" max="398" label="Lasts for days" />
  </EditDialog>
  <EditDialog
    v-model="changing"
    title="Change your password"
    label="Change the password"
    :failure="failure"
    :busy="busy"
    :ready="password.current !== '' && password.fresh !== '' && password.fresh === password.again"
    @save="change"
  >
    <v-text-field
      v-model="password.current"
      type="password"
      label="Your password until now"
      autocomplete="current-password"
      v-first
    />
    <v-text-field
      v-model="password.fresh"
      type="password"
      label="The new password, at least 12 characters"
      autocomplete="new-password"
    />
    <v-text-field
      v-model="password.again"
      type="password"
      label="The new password once more"
      autocomplete="new-password"
      :error-messages="differs ? 'The two are not the same.' : []"
    />
    <v-checkbox v-model="password.keep" label="Let your tokens live on" />
    <p class="muted">Your other sessions end.</p>
  </EditDialog>
</template>

<style scoped>
.secret {
  display: block;
  overflow-wrap: anywhere;
}
</style>
