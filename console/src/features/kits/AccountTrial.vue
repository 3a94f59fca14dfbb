<script setup lang="ts">
import { ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { useAction } from '../../shared/actions/useAction'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'

/** Signing in to an account from the service, with a name and a password that are not kept. */
const { account } = defineProps<{ account: Schemas['AccountPayload'] }>()
const user = ref('')
const password = ref('')
const found = ref<Schemas['AccountTrial'] | null>(null)
const { busy, failure, run } = useAction()

async function tryIt() {
  found.value = null
  const body = { account, user: user.value, password: password.value }
  await run(async () => {
    found.value = await got(api.POST('/api/v1/account-trials', { body }))
  }, false)
}
</script>

<template>
  <fieldset class="stack">
    <legend class="muted">Try the account from here. Name and password are not kept.</legend>
    <ProblemAlert :error="failure" />
    <div class="row-gap">
      <v-text-field v-model="user" label="Name of somebody there" autocomplete="off" hide-details />
      <v-text-field
        v-model="password"
        label="Password"
        type="password"
        autocomplete="off"
        hide-details
      />
      <v-btn
        variant="tonal"
        :loading="busy"
        :disabled="!account.server || !user || !password"
        @click="tryIt"
        >Try to sign in</v-btn
      >
    </div>
    <p v-if="found" role="status" :class="found.ok ? 'tone-good' : 'tone-bad'">
      {{ found.words }} {{ found.remedy }}
    </p>
  </fieldset>
</template>

<style scoped>
fieldset {
  border: 1px solid rgba(var(--v-border-color), 0.2);
  border-radius: 4px;
  padding: 8px 12px 12px;
}
</style>
