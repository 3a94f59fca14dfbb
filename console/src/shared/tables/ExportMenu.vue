<script setup lang="ts">
/** What is shown, as files to take away. */
const { forms } = defineProps<{ forms: { title: string; subtitle: string; href: string }[] }>()
</script>

<template>
  <v-menu>
    <template #activator="{ props }"><v-btn v-bind="props" variant="text">Export</v-btn></template>
    <v-list density="compact">
      <v-list-item v-for="one in forms" :key="one.title" v-bind="one" download />
    </v-list>
  </v-menu>
</template>
