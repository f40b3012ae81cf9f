<script setup lang="ts">
import type { Problem } from '../api'

defineProps<{ problem: Problem | null }>()
</script>

<template>
  <p v-if="problem" class="problem" role="alert">
    <strong><span aria-hidden="true">✕</span> {{ problem.message }}</strong>
    <span v-if="problem.remedy"> {{ problem.remedy }}</span>
  </p>
</template>

<style scoped>
.problem { background: var(--alarm-soft); border-left: 4px solid var(--alarm); border-radius: 0.35rem; padding: 0.6rem 0.9rem; margin: 0.75rem 0; }
</style>
