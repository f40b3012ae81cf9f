<script setup lang="ts">
import { computed } from 'vue'

/** Seats at a store: how many are taken, as a length beside the figures. */
const props = defineProps<{ seats: number; taken: number; left: number; perBuild?: boolean }>()
const part = computed(() => (props.seats ? Math.min(props.taken / props.seats, 1) : 1))
</script>

<template>
  <span class="seats" :class="{ none: !left }">
    <svg viewBox="0 0 100 8" preserveAspectRatio="none" aria-hidden="true"><rect width="100" height="8" class="all" /><rect :width="part * 100" height="8" class="taken" /></svg>
    <span>{{ left ? `${left.toLocaleString('en')} of ${seats.toLocaleString('en')} seats left` : `all ${seats.toLocaleString('en')} seats taken` }}<template v-if="perBuild"> for each build</template></span>
  </span>
</template>

<style scoped>
.seats { display: inline-flex; gap: 0.6rem; align-items: center; font-size: 0.9rem; white-space: nowrap; }
svg { width: 5.5rem; height: 0.5rem; border-radius: 0.25rem; flex: none; }
.all { fill: var(--line); }
.taken { fill: var(--water-deep); }
.none { font-weight: 600; color: var(--care); }
.none .taken { fill: var(--care); }
</style>
