<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, got, type Schemas } from '../../api/client'
import { number } from '../formats'

const { job } = defineProps<{ job: Schemas['Job'] }>()
const began = ref(Date.now())
const stopping = ref(false)
watch(
  () => job.phase,
  () => (began.value = Date.now()),
)
const share = computed(() => (job.total ? Math.min(100, (job.done / job.total) * 100) : 0))
const left = computed(() => {
  const seconds = (Date.now() - began.value) / 1000
  return job.done && job.total && seconds > 1
    ? Math.ceil((seconds / job.done) * (job.total - job.done))
    : null
})
const words = computed(() =>
  job.state === 'waiting' ? 'waiting for a worker' : job.phase || 'beginning',
)

async function stop() {
  stopping.value = true
  await got(api.POST('/api/v1/jobs/{job_id}/cancel', { params: { path: { job_id: job.id } } }))
}
</script>

<template>
  <div class="bar" role="status" aria-live="polite">
    <div class="line">
      <strong>{{ job.title }}</strong>
      <span class="muted"
        >{{ words
        }}<template v-if="job.total"
          >, {{ number(job.done) }} of {{ number(job.total) }} rows</template
        ><template v-if="left !== null">, about {{ left }} s left</template></span
      >
      <v-btn size="small" variant="text" :loading="stopping" @click="stop"
        >Stop; keep nothing</v-btn
      >
    </div>
    <v-progress-linear
      :indeterminate="!job.total"
      :model-value="share"
      color="primary"
      :aria-label="words"
    />
  </div>
</template>

<style scoped>
.line {
  display: flex;
  gap: 12px;
  align-items: center;
  flex-wrap: wrap;
}
.line span {
  flex: 1 1 auto;
}
</style>
