<script setup lang="ts">
import { computed } from 'vue'

import type { components } from '../schema'
import { hoursTold } from '../telling'

/** How long a round waits beside what is usual: the band in which eight of ten lie, the median, and where it stands now. */
const props = defineProps<{ wait: components['schemas']['WaitTold'] }>()
const most = computed(() => Math.max(props.wait.hours, props.wait.high_hours, props.wait.median_hours, 0.1) * 1.1)
const at = (hours: number) => `${Math.min(100, (hours / most.value) * 100)}%`
const told = computed(() => {
  const { median_hours, low_hours, high_hours, rounds } = props.wait
  return rounds
    ? `usual are ${hoursTold(median_hours)}, eight of ten within ${hoursTold(low_hours)} to ${hoursTold(high_hours)} (${rounds} rounds of yours)`
    : `usual are ${hoursTold(median_hours)} by the store's rulebook; your own times say it from five rounds on`
})
</script>

<template>
  <div class="wait">
    <p><strong :class="{ long: wait.long }">{{ wait.long ? '▲ ' : '' }}It waits for {{ hoursTold(wait.hours) }}<template v-if="wait.long">, longer than usual</template>.</strong> <span class="soft small-print">{{ told }}</span></p>
    <div class="strip" aria-hidden="true">
      <span v-if="wait.rounds" class="band" :style="{ left: at(wait.low_hours), width: `calc(${at(wait.high_hours)} - ${at(wait.low_hours)})` }" />
      <span class="median" :style="{ left: at(wait.median_hours) }" />
      <span class="now" :class="{ long: wait.long }" :style="{ left: at(wait.hours) }" />
    </div>
  </div>
</template>

<style scoped>
.wait { display: grid; gap: 0.25rem; padding: 0.2rem 0; }
p { margin: 0; }
.strip { position: relative; height: 1.1rem; border-bottom: 2px solid var(--line); max-width: 30rem; }
.band { position: absolute; top: 0.25rem; bottom: 0; background: var(--water); opacity: 0.55; border-radius: 0.2rem 0.2rem 0 0; }
.median { position: absolute; top: 0.1rem; bottom: 0; border-left: 2px solid var(--accent); }
.now { position: absolute; bottom: -0.35rem; width: 0.7rem; height: 0.7rem; margin-left: -0.35rem; border-radius: 50%; background: var(--ink); border: 2px solid var(--card); }
.now.long { background: var(--care); }
strong { font-weight: 600; }
strong.long { color: var(--care); }
</style>
