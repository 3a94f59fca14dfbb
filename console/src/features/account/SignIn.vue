<script setup lang="ts">
import { onMounted, ref, useTemplateRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { useSession } from '../../shared/actions/useSession'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const error = ref<unknown>(null)
const busy = ref(false)
const first = useTemplateRef<{ focus: () => void }>('first')
// At once, not when the field comes into view: by then a quick typist is in the next one.
onMounted(() => first.value?.focus())

async function enter() {
  busy.value = true
  error.value = null
  try {
    await session.signIn(name.value, password.value)
    const then = String(route.query.then ?? '/today')
    // Only an address of this console: never another site's.
    await router.push(then.startsWith('/') && !then.startsWith('//') ? then : '/today')
  } catch (problem) {
    error.value = problem
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="door">
    <v-card class="pa-6 form">
      <h1 class="mark">sortitor</h1>
      <p class="muted mb-4">Every change looked at before it is made.</p>
      <ProblemAlert :error="error" />
      <form class="stack" @submit.prevent="enter">
        <v-text-field ref="first" v-model="name" label="Account" autocomplete="username" required />
        <v-text-field
          v-model="password"
          label="Password"
          type="password"
          autocomplete="current-password"
          required
        />
        <v-btn type="submit" color="primary" block :loading="busy" :disabled="!name || !password"
          >Sign in</v-btn
        >
      </form>
    </v-card>
  </div>
</template>

<style scoped>
.door {
  min-height: 100vh;
  display: grid;
  place-items: center;
  padding: 16px;
  background: linear-gradient(180deg, rgba(var(--v-theme-primary), 0.16), transparent 55%);
}
.form {
  width: min(380px, 100%);
}
.mark {
  font-size: 1.9rem;
  letter-spacing: -0.04em;
  color: rgb(var(--v-theme-primary));
}
</style>
