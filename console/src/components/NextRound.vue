<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, type Leg, told } from '../api'
import { useLoading } from '../loading'

/** Handing in again: what the reviewer is told, drafted from what was done about each matter; and why, where one is still open. */
const props = defineProps<{ app: string; version: string; leg: Leg; busy: boolean }>()
const emit = defineEmits<{ go: [note: string, inSpiteOf: string] }>()

const path = { app: props.app, version: props.version, store: props.leg.place }
const { data: drafted, load } = useLoading(() => told(api.GET('/v1/apps/{app}/releases/{version}/legs/{store}/reviewer-note', { params: { path } })))
const note = ref('')
const why = ref('')
watch(() => props.leg, () => void load(), { immediate: true })
watch(drafted, (now, before) => {
  if (now && (note.value === '' || note.value === before?.text)) note.value = now.text
})
const blockers = computed(() => props.leg.findings.filter((one) => one.level === 'blocker'))
const open = computed(() => blockers.value.filter((one) => one.code === 'matter-open'))
const others = computed(() => blockers.value.length - open.value.length)
</script>

<template>
  <form class="again" @submit.prevent="emit('go', note, open.length ? why : '')">
    <label>Note for the reviewer <span class="small-print soft">drafted from what was done about each reason</span>
      <textarea v-model="note" class="form-control form-control-sm" :rows="note ? 4 : 2" maxlength="2000" placeholder="Nothing yet: say above what was done." />
    </label>
    <label v-if="open.length">Why it is handed in although {{ open.length === 1 ? 'a matter is' : `${open.length} matters are` }} open
      <input v-model="why" class="form-control form-control-sm" maxlength="2000" placeholder="it stands in the logbook" />
    </label>
    <BButton type="submit" size="sm" variant="primary" :disabled="busy || others > 0 || (open.length > 0 && !why.trim())">Hand in again</BButton>
  </form>
</template>

<style scoped>
.again { display: grid; gap: 0.5rem; justify-items: start; width: 100%; }
label { display: grid; gap: 0.2rem; font-size: 0.9rem; width: 100%; }
</style>
