<script setup lang="ts">
import { computed, nextTick, ref, useTemplateRef, watch } from 'vue'

import { number, words } from '../formats'
import IdleBars from '../charts/IdleBars.vue'
import JobBar from './JobBar.vue'
import ProblemAlert from './ProblemAlert.vue'
import { usePreview } from '../actions/usePreview'
import { vReachable } from '../tables/reachable'

const { state, long, apply, close } = usePreview()
const reason = ref('')
const shown = computed({ get: () => state.change !== null, set: (open) => !open && close() })
const marked = ref<number[]>([])
const typed = ref('')
const confirmed = computed(
  () => !state.change?.final || Number(typed.value) === state.preview?.examples_total,
)
watch(
  () => state.change,
  () => {
    reason.value = ''
    marked.value = []
    typed.value = ''
  },
)

const reasonField = useTemplateRef<{ focus: () => void }>('reasonField')
const card = useTemplateRef<{ $el: HTMLElement }>('card')
// The reason is written first, but whoever has already gone on in the dialog is left there.
watch(
  () => state.preview,
  async () => {
    await nextTick()
    if (!card.value?.$el.contains(document.activeElement)) reasonField.value?.focus()
  },
)

function keep() {
  const { change } = state
  const ids = marked.value
  close()
  change?.keep?.(ids)
}
</script>

<template>
  <v-dialog v-model="shown" max-width="860" aria-labelledby="preview-title">
    <v-card ref="card">
      <v-card-title id="preview-title" class="pt-4">{{
        state.preview?.title ?? 'Preview'
      }}</v-card-title>
      <v-card-text class="stack">
        <v-progress-linear
          v-if="state.busy && !state.preview"
          indeterminate
          color="primary"
          aria-label="Working out what would happen"
        />
        <ProblemAlert :error="state.error" />
        <JobBar v-if="long.job" :job="long.job" />
        <v-alert v-if="state.moved" type="warning"
          >The facts have changed since; nothing was applied. This is what would happen
          now.</v-alert
        >
        <template v-if="state.preview">
          <dl class="counts">
            <div
              v-for="count in state.preview.counts"
              :key="count.key"
              :class="count.count ? `tone-${count.tone}` : 'muted'"
            >
              <dd class="number">{{ number(count.count) }}</dd>
              <dt>{{ count.label }}</dt>
            </div>
          </dl>
          <ul v-if="state.preview.changes?.length" class="changes">
            <li v-for="change in state.preview.changes" :key="change.field">
              {{ words(change.field) }}: <span class="muted">{{ change.before ?? '–' }}</span> →
              <strong>{{ change.after ?? '–' }}</strong>
            </li>
          </ul>
          <IdleBars
            v-if="state.preview.bars?.length"
            :bars="state.preview.bars"
            :line="state.preview.bars_line_days ?? 0"
          />
          <v-alert v-for="warning in state.preview.warnings" :key="warning" type="warning">{{
            warning
          }}</v-alert>
          <v-table
            v-reachable="'Examples'"
            v-if="state.preview.examples.length"
            density="compact"
            fixed-header
            :height="state.preview.examples.length > 8 ? '280px' : undefined"
            class="border rounded"
          >
            <thead>
              <tr>
                <th v-if="state.change?.keep" scope="col">Keep</th>
                <th scope="col">What</th>
                <th scope="col">Field</th>
                <th scope="col">Before</th>
                <th scope="col">After</th>
                <th scope="col">Remark</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="(line, place) in state.preview.examples" :key="place">
                <td v-if="state.change?.keep">
                  <input
                    v-if="line.device_id"
                    v-model="marked"
                    type="checkbox"
                    :value="line.device_id"
                    :aria-label="`Keep ${line.subject}`"
                  />
                </td>
                <td class="nowrap">
                  <router-link
                    v-if="line.device_id"
                    :to="`/devices/${line.device_id}`"
                    @click="close"
                    >{{ line.subject }}</router-link
                  >
                  <template v-else>{{ line.subject }}</template>
                </td>
                <td>{{ words(line.field) }}</td>
                <td class="muted">{{ line.before ?? '–' }}</td>
                <td>
                  <strong>{{ line.after ?? '–' }}</strong>
                </td>
                <td>{{ line.note }}</td>
              </tr>
            </tbody>
          </v-table>
          <div v-if="state.preview.examples_total > state.preview.examples.length" class="muted">
            The first {{ state.preview.examples.length }} of
            {{ number(state.preview.examples_total) }} are shown.
          </div>
          <v-btn
            v-if="state.change?.keep && state.preview.examples.length"
            variant="outlined"
            color="primary"
            :disabled="!marked.length"
            @click="keep"
            >Hold the marked ones</v-btn
          >
          <v-text-field
            v-if="!state.change?.reasoned"
            ref="reasonField"
            v-model="reason"
            label="Reason, for the journal (optional)"
            maxlength="500"
          />
          <v-text-field
            v-if="state.change?.final && !state.preview.nothing_to_do"
            v-model="typed"
            label="Nothing brings them back. Type how many devices it is"
            inputmode="numeric"
          />
        </template>
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn variant="text" @click="close">Cancel</v-btn>
        <v-btn
          v-if="state.preview"
          color="primary"
          variant="flat"
          :loading="state.busy"
          :disabled="state.preview.nothing_to_do || !confirmed"
          @click="apply(reason, Number(typed))"
          >{{ state.preview.apply_label }}</v-btn
        >
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.changes {
  margin: 0;
  padding-left: 18px;
}
.counts {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(240px, 1fr));
  gap: 2px 20px;
}
.counts > div {
  display: flex;
  gap: 10px;
  align-items: baseline;
}
.counts dd {
  min-width: 3.4em;
  font-weight: 650;
  font-size: 1.02rem;
  margin: 0;
}
</style>
