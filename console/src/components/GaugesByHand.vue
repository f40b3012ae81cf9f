<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type Release, told } from '../api'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'
import { COUNTED, LIMITS } from '../states'
import Moment from './Moment.vue'
import ProblemNote from './ProblemNote.vue'

type Counts = components['schemas']['Counts']

/** What a hand-carried store shows on its own pages, typed in hour by hour, so that guards can look at it. */
const props = defineProps<{ app: string; stores: { name: string; title: string }[] }>()
const NAMES = Object.keys(COUNTED) as (keyof Counts)[]
const open = ref(false)
const store = ref(props.stores[0]?.name ?? '')
const hour = ref('')
const rows = reactive<({ version: string } & Record<keyof Counts, number>)[]>([])
const { busy, problem, run } = useDoing()
const path = { app: props.app }
const { data: versions, load: loadVersions } = useLoading<string[]>(async () => {
  const releases = await told<Release[]>(api.GET('/v1/apps/{app}/releases', { params: { path, query: { limit: 100 } } }))
  return releases.filter((one) => one.legs.some((leg) => leg.store === store.value && leg.launched_at)).map((one) => one.version)
})
const { data: known, load: loadKnown } = useLoading(() => told(api.GET('/v1/apps/{app}/gauges', { params: { path, query: { store: store.value } } })))
const latest = computed(() => [...(known.value?.counted ?? [])].reverse().slice(0, 12))

function another(): void {
  const version = versions.value?.find((one) => !rows.some((row) => row.version === one)) ?? ''
  rows.push({ version, ...(Object.fromEntries(NAMES.map((name) => [name, 0])) as Record<keyof Counts, number>) })
}
async function begin(): Promise<void> {
  await Promise.all([loadVersions(), loadKnown()])
  rows.splice(0)
  another()
  open.value = true
}
async function save(): Promise<void> {
  const at = new Date(hour.value)
  at.setMinutes(0, 0, 0)
  const done = await run(async () => {
    const hours = [{ at: at.toISOString(), revision: Math.floor(Date.now() / 1000), complete: true, cells: rows.map((row) => ({ ...row, number: '', level: '', device: '' })) }]
    await told(api.POST('/v1/apps/{app}/gauges', { params: { path }, body: { store: store.value, source: '', hours } }))
    await loadKnown()
  }, 'The hour is taken')
  if (done) for (const row of rows) for (const name of NAMES) row[name] = 0
}
</script>

<template>
  <section class="card-plain byhand" aria-labelledby="by-hand">
    <div class="row-gap head"><h2 id="by-hand">Counts of stores that are carried by hand</h2><BButton data-needs="enter-counts" v-if="!open" size="sm" variant="outline-primary" @click="begin">Type in an hour</BButton></div>
    <p v-if="!open" class="soft">No store sends them. What {{ stores.map((one) => one.title).join(' and ') }} shows can be typed in, so that guards see it too.</p>
    <form v-else class="stack" aria-label="An hour of counts" @submit.prevent="save">
      <div class="row-gap">
        <label v-if="stores.length > 1" class="row-gap">Store <select v-model="store" class="form-select form-select-sm" @change="begin"><option v-for="one in stores" :key="one.name" :value="one.name">{{ one.title }}</option></select></label>
        <label class="row-gap">The hour from <input v-model="hour" type="datetime-local" step="3600" class="form-control form-control-sm" required /></label>
      </div>
      <fieldset v-for="(row, at) in rows" :key="at" class="fields">
        <legend class="visually-hidden">Version {{ row.version || at + 1 }}</legend>
        <label>Version <input v-model="row.version" class="form-control form-control-sm" list="counted-versions" required maxlength="40" /></label>
        <label v-for="(said, name) in COUNTED" :key="name"><span class="word">{{ said }}</span> <input v-model.number="row[name]" type="number" min="0" :max="LIMITS.counted" step="1" class="form-control form-control-sm" required /></label>
        <BButton data-needs="enter-counts" v-if="rows.length > 1" size="sm" variant="link" @click="rows.splice(at, 1)">Remove this version</BButton>
      </fieldset>
      <datalist id="counted-versions"><option v-for="one in versions ?? []" :key="one" :value="one" /></datalist>
      <ProblemNote :problem="problem" />
      <p class="soft small-print">An hour is taken whole: give the version before as well, which a guard compares with. Typed in again, it replaces what was there.</p>
      <div class="row-gap"><BButton data-needs="enter-counts" type="submit" size="sm" variant="primary" :disabled="busy">Take it</BButton><BButton data-needs="enter-counts" size="sm" variant="outline-primary" @click="another">Another version</BButton><BButton size="sm" variant="link" @click="open = false">Close</BButton></div>
      <ul v-if="latest.length" class="plain-list small-print soft"><li v-for="one in latest" :key="one.at + one.version"><Moment :at="one.at" />: {{ one.version }}, {{ (one.counts.sessions ?? 0).toLocaleString('en') }} sessions, {{ one.counts.crashed_people ?? 0 }} people who met a crash</li></ul>
    </form>
  </section>
</template>

<style scoped>
.byhand { display: grid; gap: 0.6rem; margin-top: 1rem; }
.head { justify-content: space-between; }
.head h2, p { margin: 0; }
.fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(11rem, 1fr)); gap: 0.6rem 0.9rem; align-items: end; border-top: 1px solid var(--line); padding-top: 0.7rem; }
.fields label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
.word::first-letter { text-transform: uppercase; }
</style>
