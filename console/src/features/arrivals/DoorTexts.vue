<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { useQuery } from '@tanstack/vue-query'
import { computed, reactive, ref } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import EditDialog from '../../shared/dialogs/EditDialog.vue'
import ProblemAlert from '../../shared/dialogs/ProblemAlert.vue'
import { useAction } from '../../shared/actions/useAction'
import { useDocuments } from '../../shared/actions/useDocuments'
import { useDraft } from '../../shared/actions/useDraft'
import { usePreview } from '../../shared/actions/usePreview'
import AcceptanceList from './AcceptanceList.vue'
import WelcomeCard from '../welcome/WelcomeCard.vue'
import { isRightToLeft, type Language, LANGUAGES } from '../welcome/words'

/** What people read at the door: the welcome card, with a live picture, and the terms. */
const preview = usePreview()
const languages = Object.entries(LANGUAGES).map(([value, title]) => ({ value, title }))
const language = ref<Language>('en')
const { data: kept, error } = useQuery({
  queryKey: ['welcome-card'],
  queryFn: () => got(api.GET('/api/v1/welcome-card')),
})
const { draft: card, revision } = useDraft(
  kept,
  (found): Schemas['WelcomeCard'] => ({ ...found, revision: undefined }) as Schemas['WelcomeCard'],
)
const greeting = computed({
  get: () => card.value?.greetings?.find((one) => one.language === language.value)?.text ?? '',
  set: (text: string) => {
    if (!card.value) return
    const others = (card.value.greetings ?? []).filter((one) => one.language !== language.value)
    card.value.greetings = text.trim() ? [...others, { language: language.value, text }] : others
  },
})
const { failure, run, busy } = useAction()
const upload = (file: File | File[] | null) =>
  run(async () => {
    const one = Array.isArray(file) ? file[0] : file
    if (!one || !card.value) return
    const kept = await got(
      api.POST('/api/v1/welcome-card/pictures', {
        body: one as unknown as string,
        bodySerializer: (content: unknown) => content as BodyInit,
        headers: { 'Content-Type': 'application/octet-stream' },
      }),
    )
    card.value.picture = kept.digest
  }, false)

function save() {
  const body = card.value!
  void preview.open({
    look: () => got(api.POST('/api/v1/welcome-card/preview', { body })),
    act: (digest, reason) =>
      got(
        api.POST('/api/v1/welcome-card/apply', {
          body: { card: body, digest, reason },
          params: { header: { 'if-match': `"${revision.value}"` } },
        }),
      ),
  })
}

const documents = useDocuments<Schemas['Terms'], Schemas['TermsDetail']>('/api/v1/terms')
const { data: terms } = documents.useList()
const open = ref(false)
/** Whose acceptances are shown. */
const shown = ref<Schemas['TermsDetail'] | null>(null)
const editing = ref<Schemas['TermsDetail'] | null>(null)
const form = reactive({
  name: '',
  form: 'markdown' as Schemas['Form'],
  texts: {} as Record<string, string>,
  language: 'en' as Language,
})

function edit(one: Schemas['TermsDetail'] | null) {
  editing.value = one
  form.name = one?.name ?? ''
  form.form = one?.form ?? 'markdown'
  form.texts = Object.fromEntries((one?.texts ?? []).map((text) => [text.language, text.text]))
  open.value = true
}

function saveTerms() {
  const texts = Object.entries(form.texts)
    .filter(([, text]) => text.trim())
    .map(([one, text]) => ({ language: one, text }))
  const document = {
    name: form.name.trim(),
    form: form.form,
    texts,
    note: editing.value?.note ?? null,
  }
  const close = () => (open.value = false)
  if (editing.value) void documents.edit(editing.value, document, close)
  else void documents.add(document, close)
}
</script>

<template>
  <ProblemAlert :error="error ?? failure" />
  <div v-if="card" class="columns">
    <v-card class="pa-4 stack">
      <h2>Welcome card</h2>
      <v-text-field v-model="card.organisation" label="Organisation" />
      <div class="pair">
        <v-text-field v-model="card.colour" label="Colour" type="color" />
        <v-file-input
          label="Picture (PNG, JPEG or WebP)"
          accept="image/png,image/jpeg,image/webp"
          :loading="busy"
          @update:model-value="upload"
        />
      </div>
      <v-btn v-if="card.picture" size="small" variant="text" @click="card.picture = null"
        >Take the picture off</v-btn
      >
      <v-select v-model="language" :items="languages" label="Language" />
      <v-textarea
        v-model="greeting"
        label="Your own words in this language"
        rows="3"
        :dir="isRightToLeft(language) ? 'rtl' : 'ltr'"
      />
      <div class="pair">
        <v-text-field v-model="card.help_name" label="Who helps" />
        <v-text-field v-model="card.help_hours" label="When" />
        <v-text-field v-model="card.help_phone" label="Phone" />
        <v-text-field v-model="card.help_mail" label="Mail" />
      </div>
      <v-btn color="primary" @click="save">Preview and save</v-btn>
    </v-card>
    <div class="phone" :dir="isRightToLeft(language) ? 'rtl' : 'ltr'" aria-label="What people see">
      <WelcomeCard :card="card" :language="language" />
    </div>
  </div>
  <div class="page-head mt-6">
    <h2>Terms</h2>
    <v-spacer />
    <v-btn variant="outlined" color="primary" :prepend-icon="mdiPlus" @click="edit(null)"
      >Write terms</v-btn
    >
  </div>
  <p v-if="!terms?.length" class="muted">None yet. Terms are asked for where the gate says so.</p>
  <v-card v-for="one in terms" :key="one.id" class="pa-4 mb-2 row-gap">
    <strong>{{ one.name }}</strong>
    <span class="muted"
      >version {{ one.revision }}, in
      {{ one.texts.map((text) => LANGUAGES[text.language as Language]).join(', ') }}</span
    >
    <v-spacer />
    <v-btn size="small" variant="text" @click="shown = one">Who accepted them</v-btn>
    <v-btn size="small" variant="text" @click="edit(one)">Change</v-btn>
    <v-btn size="small" variant="text" color="error" @click="documents.remove(one)">Remove</v-btn>
  </v-card>
  <AcceptanceList v-if="shown" :key="shown.id" :terms="shown" />
  <EditDialog
    v-model="open"
    :title="editing ? `Terms “${editing.name}”` : 'Write terms'"
    label="Preview"
    :ready="form.name.trim() !== '' && Object.values(form.texts).some((text) => text.trim())"
    :width="760"
    :failure="documents.failure.value"
    :busy="documents.busy.value"
    @save="saveTerms"
  >
    <v-text-field v-model="form.name" label="What they are called" />
    <div class="pair">
      <v-select
        v-model="form.form"
        :items="[
          { title: 'plain text', value: 'text' },
          { title: 'Markdown', value: 'markdown' },
          { title: 'HTML, cleaned of everything active', value: 'html' },
        ]"
        label="Written as"
      />
      <v-select v-model="form.language" :items="languages" label="Language" />
    </div>
    <v-textarea
      v-model="form.texts[form.language]"
      label="The text in this language"
      rows="12"
      :dir="isRightToLeft(form.language) ? 'rtl' : 'ltr'"
    />
    <p class="muted">Each change is a new version, which people accept again.</p>
  </EditDialog>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 360px;
  gap: 16px;
  align-items: start;
}
@media (max-width: 960px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px;
}
.phone {
  width: min(360px, 100%);
  min-height: 320px;
  overflow: hidden;
  border: 1px solid rgba(var(--v-border-color), 0.3);
  border-radius: 16px;
  background: rgb(var(--v-theme-surface));
  font-size: 1rem;
}
</style>
