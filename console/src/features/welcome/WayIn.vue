<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, nextTick, reactive, ref, useTemplateRef, watch } from 'vue'

import { api, got, ProblemError, type Schemas } from '../../api/client'
import { type Language, reason, say, type Word } from './words'

/** What the person answers while their device comes in, and how far it is. */
const { secret, language, card } = defineProps<{
  secret: string
  language: Language
  card: Schemas['WelcomeDetail'] | null
}>()

const authorised = computed(() => ({ Authorization: `Bearer ${secret}` }))
const params = computed(() => ({ query: { language } }))
const {
  data: way,
  error,
  refetch,
} = useQuery({
  queryKey: ['way', () => secret, () => language],
  queryFn: () =>
    got(api.GET('/api/v1/agent/way', { params: params.value, headers: authorised.value })),
  refetchInterval: 3000,
  retry: (times, problem) => !(problem instanceof ProblemError) && times < 1000,
})
const said = (word: Word, values?: Record<string, string | number>) => say(language, word, values)
const form = reactive({ person: '', password: '', code: '', passcode: '', ownership: '' })
const busy = ref(false)
const trouble = ref('')
const asksAgain = ref(false)
const status = useTemplateRef<HTMLElement>('status')
const need = computed(() => way.value?.asks[0] ?? null)
const open = computed(() => way.value?.outcome === 'asked')
const lapsed = computed(
  () => error.value instanceof ProblemError && error.value.problem.status === 401,
)

const TROUBLES: Record<string, Word> = {
  wrong_code: 'wrongCode',
  no_code: 'oldCode',
  slow_down: 'slow',
  wrong_passcode: 'wrongPasscode',
  wrong_name_or_password: 'wrongPassword',
  not_here_yet: 'notHereYet',
  lapsed: 'lapsed',
  unreachable: 'offline',
}

async function act(work: () => Promise<unknown>) {
  busy.value = true
  trouble.value = ''
  try {
    await work()
    await refetch()
  } catch (problem) {
    const code = problem instanceof ProblemError ? problem.problem.code : ''
    trouble.value = said(TROUBLES[code] ?? 'trouble')
  } finally {
    busy.value = false
  }
}

const sendCode = () =>
  act(async () => {
    await got(
      api.POST('/api/v1/agent/way/code', {
        body: { person: form.person },
        params: params.value,
        headers: authorised.value,
      }),
    )
    form.code = ''
    asksAgain.value = false
  })
const typeCode = () =>
  act(() =>
    got(
      api.POST('/api/v1/agent/way/sign-in', {
        body: { code: form.code },
        params: params.value,
        headers: authorised.value,
      }),
    ),
  )
const signIn = () =>
  act(async () => {
    const body = { person: form.person, password: form.password }
    form.password = ''
    await got(
      api.POST('/api/v1/agent/way/password', {
        body,
        params: params.value,
        headers: authorised.value,
      }),
    )
  })
const answer = (body: Schemas['WayAnswers']) =>
  act(() =>
    got(
      api.POST('/api/v1/agent/way/answers', {
        body,
        params: params.value,
        headers: authorised.value,
      }),
    ),
  )
const accept = () =>
  answer({
    accepted: Object.fromEntries((way.value?.terms ?? []).map((one) => [one.name, one.revision])),
  })

// What comes next is read out and can be typed at once.
watch([need, () => way.value?.outcome, () => way.value?.code_sent], async (_, before) => {
  if (before[1] === undefined) return
  await nextTick()
  status.value?.focus()
})
const progress = computed(
  () =>
    way.value?.progress as {
      done: number
      total: number
      doing?: string
      failed?: string
      message?: string
      finished?: boolean
    } | null,
)
const result = computed<Word>(() => {
  if (way.value?.outcome === 'parked') return 'parked'
  if (way.value?.outcome === 'refused') return 'refused'
  if (progress.value?.failed) return 'failed'
  return progress.value?.finished ? 'ready' : 'admitted'
})
const why = computed(() =>
  (way.value?.codes ?? []).map((code, place) =>
    reason(language, code, way.value?.messages[place] ?? ''),
  ),
)
const helps = computed(
  () => card && (card.help_name || card.help_phone || card.help_mail || card.help_hours),
)
</script>

<template>
  <p v-if="lapsed" role="alert" class="trouble">{{ said('lapsed') }}</p>
  <p v-else-if="!way" role="status">{{ said(error ? 'offline' : 'wait') }}</p>
  <div v-else class="way">
    <h2 ref="status" tabindex="-1" class="now" aria-live="polite">
      <template v-if="!open">{{ said(result) }}</template>
      <template v-else-if="need === 'passcode'">{{ said('passcode') }}</template>
      <template v-else-if="need === 'sign_in'">{{ said('signIn') }}</template>
      <template v-else-if="need === 'ownership'">{{ said('whose') }}</template>
      <template v-else>{{ said('terms') }}</template>
    </h2>
    <p v-if="way.person_name" class="muted">{{ said('signedIn', { name: way.person_name }) }}</p>
    <p v-if="trouble" role="alert" class="trouble">{{ trouble }}</p>

    <form v-if="open && need === 'passcode'" @submit.prevent="answer({ passcode: form.passcode })">
      <p class="muted">{{ said('passcodeHint') }}</p>
      <label>
        {{ said('passcode') }}
        <input v-model="form.passcode" required autocomplete="off" />
      </label>
      <button :disabled="busy">{{ said('goOn') }}</button>
    </form>

    <form
      v-else-if="open && need === 'sign_in' && way.sign_in === 'directory'"
      @submit.prevent="signIn"
    >
      <p class="muted">{{ said('passwordHint') }}</p>
      <label>
        {{ said('name') }}
        <input
          v-model="form.person"
          required
          autocomplete="username"
          autocapitalize="off"
          spellcheck="false"
          dir="ltr"
        />
      </label>
      <label>
        {{ said('password') }}
        <input
          v-model="form.password"
          type="password"
          required
          autocomplete="current-password"
          dir="ltr"
        />
      </label>
      <button :disabled="busy">{{ said('enter') }}</button>
    </form>

    <template v-else-if="open && need === 'sign_in'">
      <form v-if="!way.code_sent || asksAgain" @submit.prevent="sendCode">
        <p class="muted">{{ said('signInHint') }}</p>
        <label>
          {{ said('name') }}
          <input
            v-model="form.person"
            required
            autocomplete="username"
            autocapitalize="off"
            spellcheck="false"
            dir="ltr"
          />
        </label>
        <button :disabled="busy">{{ said('sendCode') }}</button>
      </form>
      <form v-else @submit.prevent="typeCode">
        <p class="muted">{{ said('codeSent') }}</p>
        <label>
          {{ said('code') }}
          <input
            v-model="form.code"
            required
            inputmode="numeric"
            autocomplete="one-time-code"
            maxlength="12"
            dir="ltr"
            class="digits"
          />
        </label>
        <button :disabled="busy">{{ said('checkCode') }}</button>
        <button type="button" class="quiet" :disabled="busy" @click="asksAgain = true">
          {{ said('again') }}
        </button>
      </form>
    </template>

    <form
      v-else-if="open && need === 'ownership'"
      @submit.prevent="answer({ ownership: form.ownership as Schemas['Ownership'] })"
    >
      <fieldset>
        <legend class="visually-hidden">{{ said('whose') }}</legend>
        <label class="choice">
          <input v-model="form.ownership" type="radio" name="whose" value="corporate" required />
          {{ said('corporate') }}
        </label>
        <label class="choice">
          <input v-model="form.ownership" type="radio" name="whose" value="personal" />
          {{ said('personal') }}
        </label>
      </fieldset>
      <button :disabled="busy">{{ said('goOn') }}</button>
    </form>

    <form v-else-if="open && need === 'terms'" @submit.prevent="accept">
      <section v-for="one in way.terms" :key="one.name" :aria-label="one.name">
        <h3>{{ one.name }}</h3>
        <!-- Cleaned by the service of everything active. -->
        <!-- eslint-disable-next-line vue/no-v-html -->
        <div class="terms" tabindex="0" :lang="one.language" dir="auto" v-html="one.html" />
      </section>
      <button :disabled="busy">{{ said('accept') }}</button>
    </form>

    <template v-else>
      <p v-if="way.device_name">{{ said('called', { name: way.device_name }) }}</p>
      <p v-for="line in why" :key="line">{{ line }}</p>
      <div v-if="progress">
        <progress :value="progress.done" :max="Math.max(progress.total, 1)" />
        <p>{{ said('progress', { done: progress.done, total: progress.total }) }}</p>
        <p v-if="progress.failed" class="trouble">{{ progress.failed }}</p>
        <p v-else-if="progress.doing">{{ said('now', { what: progress.doing }) }}</p>
        <p v-if="progress.message && !progress.finished" dir="auto">{{ progress.message }}</p>
      </div>
    </template>

    <section v-if="helps" class="help">
      <h3>{{ said('help') }}</h3>
      <p v-if="card?.help_name">{{ card.help_name }}</p>
      <p v-if="card?.help_phone">
        <a :href="`tel:${card.help_phone.replace(/[^+\d]/g, '')}`" dir="ltr">{{
          card.help_phone
        }}</a>
      </p>
      <p v-if="card?.help_mail">
        <a :href="`mailto:${card.help_mail}`" dir="ltr">{{ card.help_mail }}</a>
      </p>
      <p v-if="card?.help_hours" class="muted">{{ card.help_hours }}</p>
    </section>
  </div>
</template>

<style scoped>
.now {
  font-size: 1.25rem;
  margin-bottom: 8px;
}
.now:focus {
  outline: none;
}
form > * + *,
.way > * + * {
  margin-top: 14px;
}
label {
  display: block;
}
input:not([type='radio']) {
  display: block;
  width: 100%;
  min-height: 48px;
  margin-top: 6px;
  padding: 8px 12px;
  font: inherit;
  color: inherit;
  background: transparent;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.5);
  border-radius: 8px;
}
.digits {
  font-size: 1.5rem;
  letter-spacing: 0.25em;
}
button {
  display: block;
  width: 100%;
  min-height: 48px;
  padding: 8px 12px;
  font: inherit;
  font-weight: 600;
  color: rgb(var(--v-theme-on-primary));
  background: rgb(var(--v-theme-primary));
  border: 0;
  border-radius: 8px;
  cursor: pointer;
}
button:disabled {
  opacity: 0.6;
}
button.quiet {
  color: rgb(var(--v-theme-primary));
  background: transparent;
}
fieldset {
  border: 0;
  padding: 0;
}
.choice {
  display: flex;
  gap: 12px;
  align-items: center;
  min-height: 48px;
  padding: 8px 12px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.3);
  border-radius: 8px;
}
.choice + .choice {
  margin-top: 8px;
}
.choice input {
  inline-size: 20px;
  block-size: 20px;
}
.terms {
  max-height: 44vh;
  overflow: auto;
  padding: 12px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.25);
  border-radius: 8px;
}
.terms :deep(p) {
  margin-bottom: 10px;
}
.terms :deep(ul),
.terms :deep(ol) {
  padding-inline-start: 22px;
}
.trouble {
  color: rgb(var(--v-theme-error));
  font-weight: 600;
}
progress {
  width: 100%;
  height: 12px;
  accent-color: rgb(var(--v-theme-primary));
}
.help {
  border-top: 1px solid rgba(var(--v-border-color), 0.15);
  padding-top: 14px;
}
h3 {
  font-size: 1rem;
}
</style>
