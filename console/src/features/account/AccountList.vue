<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'

import { api, got, listed, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import { useVocabulary } from '../../shared/actions/useVocabulary'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import { onDay } from '../../shared/formats'
import DataList from '../../shared/tables/DataList.vue'
import { vFirst } from '../../shared/fields/first'

/** Everybody's accounts: adding them, and changing how they sign in and what they may do. */
const { chosen = undefined } = defineProps<{ chosen?: number }>()
const OWN = ''
const { choices, label } = useVocabulary()
const { data, error, isFetching } = useQuery({
  queryKey: ['accounts'],
  queryFn: () => listed(api.GET('/api/v1/accounts')),
})
const { data: sources } = useQuery({
  queryKey: ['sources'],
  queryFn: () => listed(api.GET('/api/v1/sources')),
})
const columns = [
  { key: 'name', title: 'Account' },
  { key: 'role', title: 'Role' },
  { key: 'directory', title: 'Signs in by' },
  { key: 'created_at', title: 'Added' },
  { key: 'disabled_at', title: 'State' },
  { key: 'act', title: '' },
]
/** A password of its own, or the sources whose people sign in with theirs. */
const ways = computed(() => [
  { value: OWN, title: 'a password of its own' },
  ...(sources.value ?? [])
    .filter((one) => one.signs_in_by)
    .map(({ name }) => ({ value: name, title: `the password of ${name}` })),
])
const open = ref(false)
const edited = ref<Schemas['Account'] | null>(null)
const form = reactive({
  name: '',
  role: 'viewer' as Schemas['Role'],
  directory: OWN,
  password: '',
  disabled: false,
})
const { failure, run, busy, forget } = useAction()

function edit(account: Schemas['Account'] | null) {
  edited.value = account
  Object.assign(form, {
    name: account?.name ?? '',
    role: account?.role ?? 'viewer',
    directory: account?.directory ?? OWN,
    password: '',
    disabled: !!account?.disabled_at,
  })
  forget()
  open.value = true
}
/** A password is needed where there was none until now. */
const hasOne = computed(() => edited.value !== null && !edited.value.directory)
const ready = computed(
  () => form.name.trim() !== '' && (form.directory || form.password || hasOne.value),
)
/** Only what is not as it was. */
function changes(account: Schemas['Account']): Schemas['AccountEdit'] {
  const directory = form.directory || null
  return {
    role: form.role === account.role ? null : form.role,
    password: form.password || null,
    directory: directory === account.directory ? null : directory,
    disabled: form.disabled === !!account.disabled_at ? null : form.disabled,
  }
}
const save = () =>
  run(async () => {
    const account = edited.value
    if (account)
      await got(
        api.PATCH('/api/v1/accounts/{account_id}', {
          params: { path: { account_id: account.id } },
          body: changes(account),
        }),
      )
    else
      await got(
        api.POST('/api/v1/accounts', {
          body: {
            name: form.name.trim(),
            role: form.role,
            password: form.directory ? null : form.password,
            directory: form.directory || null,
          },
        }),
      )
    open.value = false
  })
</script>

<template>
  <section aria-labelledby="accounts">
    <div class="page-head">
      <h2 id="accounts">All accounts</h2>
      <v-spacer />
      <v-btn size="small" variant="outlined" color="primary" @click="edit(null)"
        >Add an account</v-btn
      >
    </div>
    <DataList
      label="Accounts"
      :columns="columns"
      :items="data ?? []"
      :row-key="(one) => one.id"
      :loading="isFetching"
      :error="error"
    >
      <template #name="{ item }"
        ><strong v-if="item.id === chosen">{{ item.name }}</strong
        ><router-link v-else :to="`/account?account=${item.id}`">{{
          item.name
        }}</router-link></template
      >
      <template #role="{ item }">{{ label('role', item.role) }}</template>
      <template #directory="{ item }">{{ item.directory ?? 'a password of its own' }}</template>
      <template #created_at="{ item }">{{ onDay(item.created_at) }}</template>
      <template #disabled_at="{ item }"
        ><v-chip v-if="item.disabled_at" color="warning"
          >disabled since {{ onDay(item.disabled_at) }}</v-chip
        ><template v-else>in use</template></template
      >
      <template #act="{ item }"
        ><v-btn size="x-small" variant="text" color="primary" @click="edit(item)"
          >Change<span class="visually-hidden"> {{ item.name }}</span></v-btn
        ></template
      >
    </DataList>
    <EditDialog
      v-model="open"
      :title="edited ? `Account ${edited.name}` : 'Add an account'"
      :label="edited ? 'Save the account' : 'Add the account'"
      :failure="failure"
      :busy="busy"
      :ready="!!ready"
      @save="save"
    >
      <v-text-field
        v-if="!edited"
        v-model="form.name"
        label="Name, with which they sign in"
        v-first
        maxlength="64"
      />
      <v-select v-model="form.role" :items="choices('role')" label="Role" />
      <v-select v-model="form.directory" :items="ways" label="Signs in with" />
      <v-text-field
        v-if="!form.directory"
        v-model="form.password"
        type="password"
        autocomplete="new-password"
        :label="hasOne ? 'A new password (empty: it stays)' : 'Password, at least 12 characters'"
      />
      <v-checkbox v-if="edited" v-model="form.disabled" label="Disabled: it cannot sign in" />
      <p v-if="edited" class="muted">
        Whatever is changed, its sessions end. With a new way to sign in, or when it is disabled,
        its tokens are revoked, too.
      </p>
    </EditDialog>
  </section>
</template>
