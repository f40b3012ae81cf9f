<script setup lang="ts">
import { computed, reactive, ref } from 'vue'

import { api, type Release, told } from '../api'
import { useDoing } from '../loading'
import type { components } from '../schema'
import { LIMITS, PACES, PRODUCTION } from '../states'
import Explained from './Explained.vue'
import ProblemNote from './ProblemNote.vue'

type Kind = components['schemas']['PaceKind']

/** How the stores of a release rise beside each other: in step, after one that leads, or each for itself. */
const props = defineProps<{ release: Release }>()
const emit = defineEmits<{ done: [release: Release] }>()

const changing = ref(false)
const form = reactive({ kind: 'free' as Kind, lead: '', percent: 0, steady: 0, apart: [] as string[], reason: '' })
const { busy, problem, run } = useDoing()
const stores = computed(() => props.release.legs.filter((leg) => leg.track === PRODUCTION).map((leg) => ({ name: leg.store, title: leg.store_title })))
const waiting = computed(() => props.release.legs.filter((leg) => leg.waits_to_rise.length).map((leg) => ({ who: leg.place_title, said: leg.waits_to_rise.join(', and for ') })))

function begin(): void {
  const { kind, lead, share, steady_hours, apart } = props.release.pace
  Object.assign(form, { kind, lead: lead ?? stores.value[0]?.name ?? '', percent: +(share * 100).toFixed(2), steady: steady_hours, apart: [...apart], reason: '' })
  changing.value = true
}
async function save(): Promise<void> {
  const leads = form.kind === 'lead'
  const body = {
    kind: form.kind, reason: form.reason, lead: leads ? form.lead : null, apart: form.kind === 'free' ? [] : form.apart.filter((store) => !leads || store !== form.lead),
    share: form.percent / 100, steady_hours: form.steady,
  }
  const done = await run(async () => {
    emit('done', await told(api.PUT('/v1/apps/{app}/releases/{version}/pace', { params: { path: { app: props.release.app, version: props.release.version }, header: { 'If-Match': `"${props.release.revision}"` } }, body })))
  }, 'The pace is set')
  if (done) changing.value = false
}
</script>

<template>
  <section class="card-plain pace" aria-labelledby="pace">
    <div class="row-gap head">
      <h2 id="pace"><Explained word="pace" said="Pace" /></h2>
      <span>{{ release.pace_told }}</span>
      <BButton data-needs="steer" v-if="!changing" size="sm" variant="link" @click="begin">Change it</BButton>
    </div>
    <ul v-if="waiting.length && !changing" class="plain-list waits"><li v-for="{ who, said } in waiting" :key="who + said"><strong>{{ who }}</strong> waits for {{ said }}</li></ul>
    <form v-if="changing" class="stack" aria-label="Pace" @submit.prevent="save">
      <fieldset>
        <legend class="visually-hidden">How the stores rise</legend>
        <label v-for="(said, kind) in PACES" :key="kind" class="row-gap"><input v-model="form.kind" type="radio" name="pace-kind" class="form-check-input" :value="kind" /> {{ said }}</label>
      </fieldset>
      <div v-if="form.kind === 'lead'" class="fields">
        <label>It leads <select v-model="form.lead" class="form-select form-select-sm" required><option v-for="store in stores" :key="store.name" :value="store.name">{{ store.title }}</option></select></label>
        <label>The others are launched when it holds <span class="row-gap"><input v-model.number="form.percent" type="number" min="0.01" max="100" step="any" class="form-control form-control-sm" required /> %</span></label>
        <label>and its guards were steady for <span class="row-gap"><input v-model.number="form.steady" type="number" min="0" :max="LIMITS.hours" step="any" class="form-control form-control-sm" required /> hours</span></label>
      </div>
      <fieldset v-if="form.kind !== 'free' && stores.length > 1">
        <legend>This does not concern</legend>
        <template v-for="store in stores" :key="store.name"><label v-if="form.kind !== 'lead' || store.name !== form.lead" class="row-gap"><input v-model="form.apart" type="checkbox" class="form-check-input" :value="store.name" /> {{ store.title }}</label></template>
      </fieldset>
      <label>Why <input v-model="form.reason" class="form-control form-control-sm" maxlength="300" placeholder="it stands in the logbook" /></label>
      <ProblemNote :problem="problem" />
      <div class="row-gap"><BButton data-needs="steer" type="submit" size="sm" variant="primary" :disabled="busy">Save</BButton><BButton size="sm" variant="link" @click="changing = false">Cancel</BButton></div>
    </form>
  </section>
</template>

<style scoped>
.pace { margin-bottom: 1rem; display: grid; gap: 0.5rem; padding-top: 0.7rem; padding-bottom: 0.7rem; }
.head h2 { margin: 0; }
.waits { border-left: 4px solid var(--care); padding-left: 0.8rem; }
fieldset { display: grid; gap: 0.3rem; }
legend { font-size: 0.9rem; margin: 0; }
.fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(15rem, 1fr)); gap: 0.7rem 1rem; align-items: end; }
.fields label { display: grid; gap: 0.2rem; font-size: 0.9rem; }
</style>
