<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, type Proposal, type Reservation, told } from '../api'
import { useDoing } from '../loading'
import Moment from './Moment.vue'
import ProblemNote from './ProblemNote.vue'

/** What a build is called next at every store, why, and holding it so that nobody else gets it. */
const props = defineProps<{ app: string; held: Reservation[] }>()
const emit = defineEmits<{ done: [] }>()
const path = { app: props.app }
const step = ref<'patch' | 'minor' | 'major'>('patch')
const label = ref('')
const found = ref<Proposal | null>(null)
const doing = useDoing()

const ask = () => doing.run(async () => void (found.value = await told(api.GET('/v1/apps/{app}/numbers', { params: { path, query: { step: step.value } } }))))
const reserve = () => doing.run(async () => {
  found.value = await told(api.POST('/v1/apps/{app}/reservations', { params: { path }, body: { step: step.value, label: label.value } }))
  label.value = ''
  emit('done')
})
const giveBack = (reservation: string) => doing.run(async () => {
  await told(api.DELETE('/v1/apps/{app}/reservations/{reservation}', { params: { path: { app: props.app, reservation } } }))
  found.value = null
  emit('done')
})
watch(step, () => void (found.value && ask()))
</script>

<template>
  <details class="card-plain next" @toggle="($event.target as HTMLDetailsElement).open && !found && ask()">
    <summary>The next number<template v-if="held.length">; {{ held.length }} held</template></summary>
    <ProblemNote :problem="doing.problem.value" />
    <form class="row-gap" @submit.prevent="reserve">
      <label class="row-gap">Step <select v-model="step" class="form-select form-select-sm"><option>patch</option><option>minor</option><option>major</option></select></label>
      <label class="row-gap">For <input v-model="label" class="form-control form-control-sm" placeholder="who builds it" /></label>
      <BButton data-needs="hand-in" type="submit" size="sm" variant="outline-primary" :disabled="doing.busy.value">Hold it</BButton>
    </form>
    <template v-if="found">
      <p class="proposal"><strong>{{ found.version }} ({{ found.number }})</strong> <span v-if="found.reservation">is held for you.</span></p>
      <ul class="reasons"><li v-for="reason in found.reasons" :key="reason">{{ reason }}</li></ul>
      <p v-for="caution in found.cautions ?? []" :key="caution.detail">▲ {{ caution.detail }}</p>
    </template>
    <ul v-if="held.length" class="plain-list">
      <li v-for="entry in held" :key="entry.id"><strong>{{ entry.version }} ({{ entry.number }})</strong> {{ entry.label || 'without a label' }} <span class="soft small-print"><Moment :at="entry.reserved_at" /></span> <BButton data-needs="hand-in" size="sm" variant="link" @click="giveBack(entry.id)">Give it back</BButton></li>
    </ul>
  </details>
</template>

<style scoped>
.next { margin-top: 1rem; }
summary { color: var(--accent); }
form { margin: 0.7rem 0 0.3rem; gap: 0.5rem 1.25rem; font-size: 0.9rem; }
form .form-control, form .form-select { width: auto; }
.proposal { margin: 0.4rem 0 0.2rem; font-size: 1.05rem; }
.reasons { font-size: 0.9rem; margin: 0 0 0.5rem; padding-left: 1.1rem; }
</style>
