<script setup lang="ts">
import { computed, nextTick, onMounted, reactive, ref, watch } from 'vue'

import { api, type MoveSheet, told } from '../api'
import { useDoing, useLoading } from '../loading'
import { tell } from '../messages'
import { PRODUCTION } from '../states'
import FindingList from './FindingList.vue'
import ProblemNote from './ProblemNote.vue'

/** What a move would mean at each store, before it is done; then the move itself. */
export interface Move {
  /** The track that it comes from; none: it is placed from the builds. */
  source: string | null
  build: string
  label: string
  to: string[]
}
const props = defineProps<{ app: string; move: Move }>()
const emit = defineEmits<{ close: []; done: [] }>()

const wish = reactive({ task: '', contact: '', notes: '', ladder: '', reason: '', submit: false })
const head = ref<HTMLElement | null>(null)
const doing = useDoing()
const how = computed(() => ({
  brief: (wish.task.trim() ? { en: wish.task } : {}) as Record<string, string>,
  remarks_to: '',
  contact: wish.contact,
  notes: (wish.notes.trim() ? { en: wish.notes } : {}) as Record<string, string>,
  ladder: wish.ladder.trim() || null,
  submit: wish.submit,
  reason: wish.reason,
}))
const path = { app: props.app }
const promotion = computed(() => ({ ...how.value, source: props.move.source, build: props.move.build, to: props.move.to[0]?.split('/')[1] ?? null }))
const placement = computed(() => ({ ...how.value, build: props.move.build, at: props.move.to }))
const looking = useLoading<MoveSheet[]>(async () =>
  props.move.source
    ? await told(api.POST('/v1/apps/{app}/promotion-sheets', { params: { path }, body: promotion.value }))
    : await told(api.POST('/v1/apps/{app}/placement-sheets', { params: { path }, body: placement.value })),
)
const sheets = computed(() => looking.data.value ?? [])
const blocked = computed(() => !looking.data.value || sheets.value.some((sheet) => sheet.findings.some((finding) => finding.level === 'blocker')))
const forCohorts = computed(() => sheets.value.some((sheet) => sheet.cohorts.length))
const forRelease = computed(() => sheets.value.some((sheet) => !sheet.cohorts.length))
const production = computed(() => sheets.value.some((sheet) => sheet.track === PRODUCTION))
const verb = computed(() => (production.value && !wish.submit ? 'Draft it' : props.move.source ? 'Promote it' : 'Place it'))

let timer: ReturnType<typeof setTimeout> | undefined
watch(how, () => {
  clearTimeout(timer)
  timer = setTimeout(() => void looking.load(), 300)
})
onMounted(async () => {
  await looking.load()
  await nextTick()
  head.value?.focus()
})

async function go(): Promise<void> {
  const done = await doing.run(() =>
    props.move.source
      ? told(api.POST('/v1/apps/{app}/promotions', { params: { path }, body: promotion.value }))
      : told(api.POST('/v1/apps/{app}/placements', { params: { path }, body: placement.value })),
  )
  if (!done) return
  tell(`${props.move.label} is ordered to ${sheets.value.map((sheet) => `${sheet.track_title} of ${sheet.store_title}`).join(', ')}`)
  emit('done')
}
</script>

<template>
  <section class="card-plain stack" aria-labelledby="move" @keydown.esc="emit('close')">
    <h2 id="move" ref="head" tabindex="-1">{{ move.source ? 'Promote' : 'Place' }} {{ move.label }}</h2>
    <ProblemNote :problem="doing.problem.value ?? looking.problem.value" />
    <p v-if="!looking.data.value && !looking.problem.value" class="soft" role="status">Looking at what it would mean …</p>
    <div v-for="sheet in sheets" :key="sheet.at" class="sheet" role="group" :aria-label="`${sheet.track_title} of ${sheet.store_title}`">
      <h3>{{ sheet.track_title }} of {{ sheet.store_title }}</h3>
      <p class="soft">
        {{ sheet.sends ? 'The store does not hold the build; it is sent there first.' : 'Nothing is sent again.' }}
        <template v-if="sheet.people !== null">{{ sheet.people.toLocaleString('en') }} people may get it{{ sheet.cohorts.length ? ` (${sheet.cohorts.join(', ')})` : '' }}.</template>
        <template v-if="sheet.takes_place_of.length"> It takes the place of {{ sheet.takes_place_of.join(', ') }}.</template>
        <template v-if="sheet.drafts"> It is drafted there and not handed in; you hand it in from its release.</template>
      </p>
      <FindingList :findings="sheet.findings" clear="Nothing stands against it." />
    </div>
    <form class="stack" @submit.prevent="go">
      <div class="fields">
        <label v-if="forCohorts">Please look at <textarea v-model="wish.task" class="form-control" rows="2" :placeholder="move.source ? 'as it was said on the track before' : 'as the cohort’s own brief says'" /></label>
        <label v-if="forCohorts">Testers may ask <input v-model="wish.contact" type="email" class="form-control" placeholder="as before, or you" /></label>
        <label v-if="forRelease">What is new, in English <textarea v-model="wish.notes" class="form-control" rows="2" placeholder="as the release says" /></label>
        <label v-if="forRelease">Ladder <input v-model="wish.ladder" class="form-control" placeholder="as usual; such as 5@24,100" /></label>
        <label>Why? It stands in the logbook. <input v-model="wish.reason" class="form-control" /></label>
      </div>
      <label v-if="production" class="check"><input v-model="wish.submit" type="checkbox" class="form-check-input" /> Hand it in for production at once</label>
      <div class="row-gap">
        <BButton type="submit" variant="primary" :disabled="doing.busy.value || blocked">{{ doing.busy.value ? 'Ordering …' : verb }}</BButton>
        <BButton variant="link" @click="emit('close')">Cancel</BButton>
      </div>
    </form>
  </section>
</template>

<style scoped>
h2:focus { outline: none; }
h3 { font-size: 1rem; margin-bottom: 0.2rem; }
p { margin-bottom: 0.35rem; }
.sheet { border-top: 1px solid var(--line); padding-top: 0.6rem; }
.fields { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(17rem, 100%), 1fr)); gap: 0.6rem 1rem; }
.fields label { display: grid; gap: 0.2rem; font-size: 0.9rem; align-content: start; }
</style>
