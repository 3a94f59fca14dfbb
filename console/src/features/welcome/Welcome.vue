<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

const route = useRoute()
// After the #, which is never sent: no log holds a code. Older QR codes have it in the path.
const code = computed(() => (route.hash.slice(1) || String(route.params.code ?? '')).toUpperCase())
const shown = computed(() =>
  code.value.length === 10 ? `${code.value.slice(0, 5)}-${code.value.slice(5)}` : code.value,
)
</script>

<template>
  <div class="pa-6 welcome">
    <h1>Welcome</h1>
    <p>Type this code when your new device asks for it:</p>
    <p class="code mono">{{ shown }}</p>
    <p class="muted">
      The device will tell you whether it may be used, and who can help if not. Do not pass the code
      on.
    </p>
  </div>
</template>

<style scoped>
.welcome {
  max-width: 480px;
  margin: 8vh auto;
}
.code {
  font-size: 2rem;
  letter-spacing: 0.08em;
  margin: 16px 0;
  font-weight: 650;
}
</style>
