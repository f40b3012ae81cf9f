<script setup lang="ts">
defineProps<{ title: string }>()
</script>

<template>
  <div class="empty card-plain">
    <svg viewBox="0 0 120 40" aria-hidden="true"><path d="M2 26q14-10 29 0t29 0 29 0 29 0" /><path d="M60 4v32M60 10h12M60 18h8M60 26h12" /></svg>
    <h2>{{ title }}</h2>
    <p class="soft"><slot /></p>
  </div>
</template>

<style scoped>
.empty { text-align: center; padding: 2.2rem 1.25rem; }
svg { width: 120px; fill: none; stroke: var(--water-deep); stroke-width: 2; margin-bottom: 0.6rem; }
p { margin: 0.35rem auto 0; max-width: 34rem; }
</style>
