<script setup lang="ts">
import { computed } from 'vue'

import type { Finding } from '../api'
import { LEVEL_MARKS } from '../readiness'

/** A readiness sheet: what blocks first, each with its mark, so that colour is never alone. */
const props = defineProps<{ findings: Finding[]; clear?: string }>()
const ORDER = Object.keys(LEVEL_MARKS)
const sorted = computed(() => [...props.findings].sort((one, other) => ORDER.indexOf(one.level) - ORDER.indexOf(other.level)))
</script>

<template>
  <p v-if="!findings.length" class="soft clear">✓ {{ clear ?? 'Nothing blocks it.' }}</p>
  <ul v-else class="plain-list">
    <li v-for="finding in sorted" :key="finding.code + finding.place + finding.detail" :class="finding.level">
      <span aria-hidden="true">{{ LEVEL_MARKS[finding.level] }}</span>
      <div><span class="visually-hidden">{{ finding.level }}: </span>{{ finding.detail }} <span v-if="finding.remedy" class="soft">{{ finding.remedy }}</span></div>
    </li>
  </ul>
</template>

<style scoped>
.clear { margin: 0; }
li { display: grid; grid-template-columns: 1.1rem 1fr; gap: 0.3rem; padding: 0.3rem 0.6rem; margin-bottom: 0.25rem; border-radius: 0.35rem; }
.blocker { background: var(--alarm-soft); border-left: 4px solid var(--alarm); }
.caution { background: var(--care-soft); border-left: 4px solid var(--care); }
.note { border-left: 4px solid var(--line); }
</style>
