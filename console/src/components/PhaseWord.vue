<script setup lang="ts">
import { computed } from 'vue'

const props = defineProps<{ phase: string }>()

/** A shape for each word, so that colour is never alone. */
const SHAPES: Record<string, string> = {
  draft: '◇', 'under review': '◔', rejected: '✕', recalled: '↩', approved: '✓', rising: '▲', paused: '‖', complete: '●',
  halted: '■', withdrawn: '▽', superseded: '·', queued: '◌', sending: '→', processing: '◔', held: '?', ready: '✓', refused: '✕',
  expired: '·', open: '●', closed: '○', 'with the store': '◔', replaced: '·', drafted: '◇', 'in hand': '◔',
  sent: '→', accepted: '✓', installed: '●', bounced: '✕', declined: '–', removed: '–', new: '◆', 'fixed in': '✓', 'duplicate of': '=', ordered: '◌', confirmed: '✓', dropped: '–', done: '✓', waiting: '◌', failed: '✕',
}
const ALARM = ['rejected', 'halted', 'refused', 'bounced', 'failed']
const CARE = ['paused', 'held', 'withdrawn', 'recalled']
const tone = computed(() => (ALARM.includes(props.phase) ? 'alarm' : CARE.includes(props.phase) ? 'care' : 'calm'))
</script>

<template>
  <span class="phase" :class="tone"><span aria-hidden="true" class="shape">{{ SHAPES[phase] ?? '·' }}</span>{{ phase }}</span>
</template>

<style scoped>
.phase { display: inline-flex; gap: 0.4em; align-items: baseline; font-weight: 600; white-space: nowrap; }
.shape { width: 1em; text-align: center; }
.alarm { color: var(--alarm); }
.care { color: var(--care); }
</style>
