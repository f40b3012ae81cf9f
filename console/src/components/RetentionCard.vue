<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'

import { api, type Clearing, told } from '../api'
import { useDoing } from '../loading'
import { size } from '../telling'
import ProblemNote from './ProblemNote.vue'

/** Which package files are kept, what clearing would free, and the button that does it. */
const props = defineProps<{ app: string }>()
const emit = defineEmits<{ done: [] }>()
const path = { app: props.app }
const found = ref<Clearing | null>(null)
const newest = ref(10)
const days = ref(90)
const sure = ref(false)
const doing = useDoing()
const goes = computed(() => found.value?.builds.filter((entry) => entry.cleared) ?? [])

function show(told_: Clearing): void {
  found.value = told_
  newest.value = told_.rule.keep_newest ?? 10
  days.value = told_.rule.keep_days ?? 90
  sure.value = false
}
onMounted(() => doing.run(async () => show(await told(api.GET('/v1/apps/{app}/retention', { params: { path } })))))

const save = () => doing.run(async () => show(await told(api.PUT('/v1/apps/{app}/retention', { params: { path }, body: { keep_newest: newest.value, keep_days: days.value } }))))
async function clear(): Promise<void> {
  await doing.run(async () => {
    await told(api.POST('/v1/apps/{app}/clearings', { params: { path }, body: { dry_run: false } }))
    show(await told(api.GET('/v1/apps/{app}/retention', { params: { path } })))
  })
  emit('done')
}
</script>

<template>
  <details class="card-plain retention">
    <summary>Package files kept: {{ found ? size(found.bytes_kept + found.bytes_free) : '…' }}<template v-if="found?.bytes_free">, {{ size(found.bytes_free) }} could go</template></summary>
    <ProblemNote :problem="doing.problem.value" />
    <form v-if="found" class="row-gap" @submit.prevent="save">
      <label class="row-gap">Keep the newest <input v-model.number="newest" type="number" min="0" max="10000" class="form-control form-control-sm" /> of each platform</label>
      <label class="row-gap">and what is younger than <input v-model.number="days" type="number" min="0" class="form-control form-control-sm" /> days</label>
      <BButton data-needs="prepare" type="submit" size="sm" variant="outline-primary" :disabled="doing.busy.value">Save</BButton>
    </form>
    <p class="soft small-print">What is live, in review, on trial or on its way is never cleared; facts and history stay.</p>
    <template v-if="found">
      <ul class="plain-list judged">
        <li v-for="entry in found.builds" :key="entry.build"><strong>{{ entry.label }}</strong> <span :class="{ goes: entry.cleared }">{{ entry.cleared ? '– would go' : '· stays' }}</span> <span class="soft">{{ entry.because }}</span></li>
      </ul>
      <div v-if="goes.length" class="row-gap">
        <BButton data-needs="prepare" v-if="!sure" size="sm" variant="outline-primary" @click="sure = true">Clear {{ goes.length }} …</BButton>
        <template v-else>
          <span>{{ found.files }} files go, {{ size(found.bytes_free) }}. They cannot be recovered, only pushed again.</span>
          <BButton data-needs="prepare" size="sm" variant="danger" :disabled="doing.busy.value" @click="clear">Clear them</BButton>
          <BButton size="sm" variant="link" @click="sure = false">Cancel</BButton>
        </template>
      </div>
    </template>
  </details>
</template>

<style scoped>
.retention { margin-top: 1rem; }
summary { color: var(--accent); }
form { margin: 0.7rem 0 0.3rem; gap: 0.5rem 1.25rem; font-size: 0.9rem; }
input[type='number'] { width: 5.5rem; }
.judged { font-size: 0.9rem; margin-bottom: 0.6rem; }
.goes { color: var(--care); font-weight: 600; }
</style>
