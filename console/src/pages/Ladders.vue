<script setup lang="ts">
import { reactive, ref } from 'vue'

import { api, asRead, told } from '../api'
import Moment from '../components/Moment.vue'
import ProblemNote from '../components/ProblemNote.vue'
import TideStaff from '../components/TideStaff.vue'
import { useLive } from '../live'
import { useDoing, useLoading } from '../loading'
import type { components } from '../schema'
import { LADDER_WRITTEN, LIMITS } from '../states'
import { percent } from '../telling'

type Ladder = components['schemas']['LadderTold']

/** Ladders that are kept under a name, and what climbs by them. */
const { data, problem, load } = useLoading<Ladder[]>(() => told(api.GET('/v1/ladders')))
useLive(load, (change) => change.subject.startsWith('ladder') || change.subject.startsWith('release'))
const doing = useDoing()
const open = ref('')
const form = reactive({ name: '', stages: '', reason: '' })
const dropping = ref<string | null>(null)
const why = ref('')

/** What was read when the editing began. */
let condition = {}
function begin(ladder?: Ladder): void {
  condition = asRead('/v1/ladders')
  Object.assign(form, { name: ladder?.name ?? '', stages: ladder?.text ?? '', reason: '' })
  open.value = ladder?.name ?? '+'
}
async function save(): Promise<void> {
  const done = await doing.run(async () => {
    await told(api.PUT('/v1/ladders/{ladder}', { params: { header: condition, path: { ladder: form.name } }, body: { stages: form.stages, reason: form.reason } }))
    await load()
  }, `${form.name} is set`)
  if (done) open.value = ''
}
async function drop(name: string): Promise<void> {
  const done = await doing.run(async () => {
    await told(api.POST('/v1/ladders/{ladder}/drop', { params: { path: { ladder: name } }, body: { reason: why.value } }))
    await load()
  }, `${name} is forgotten`)
  if (done) dropping.value = null
}
</script>

<template>
  <div class="page-head"><h1>Ladders</h1><BButton data-needs="arrange-desk" v-if="!open" variant="primary" @click="begin()">Add a ladder</BButton></div>
  <p class="soft">The stages that a rollout climbs where its store leaves them free. A change counts for the rest of the way of everything that climbs by it.</p>
  <ProblemNote :problem="problem" />
  <ProblemNote :problem="doing.problem.value" />
  <form v-if="open" class="card-plain block" aria-label="A ladder" @submit.prevent="save">
    <h2>{{ open === '+' ? 'A new ladder' : `Change ${open}` }}</h2>
    <div class="fields">
      <label v-if="open === '+'">Name <input v-model="form.name" class="form-control form-control-sm" :maxlength="LIMITS.ladderName" required placeholder="careful" /></label>
      <label>Stages <input v-model="form.stages" class="form-control form-control-sm mono" :maxlength="LIMITS.ladderText" required placeholder="5@24,20@steady12/2000,100" aria-describedby="written" /></label>
      <label>Why <input v-model="form.reason" class="form-control form-control-sm" maxlength="300" placeholder="it stands in the logbook" /></label>
    </div>
    <p id="written" class="soft small-print">Stage by stage, {{ LADDER_WRITTEN }}. A stage without hours waits for a person; <span class="mono">20@steady12/2000</span> rises when every guard was steady for 12 hours, with 2,000 sessions.</p>
    <div class="row-gap"><BButton data-needs="arrange-desk" type="submit" variant="primary" :disabled="doing.busy.value">Keep it</BButton><BButton variant="link" @click="open = ''">Cancel</BButton></div>
  </form>
  <section v-for="ladder in data ?? []" :key="ladder.name" class="card-plain ladder" :aria-label="ladder.name">
    <TideStaff small :stages="ladder.stages" :share="0" phase="draft" />
    <div class="block">
      <header class="row-gap"><h2>{{ ladder.name }}</h2><span v-if="ladder.usual" class="soft">what a release climbs unless another is named{{ ladder.built_in ? '; built in' : '' }}</span></header>
      <p>{{ ladder.told }}</p>
      <p v-if="ladder.reason || ladder.changed_at" class="soft small-print"><Moment v-if="ladder.changed_at" :at="ladder.changed_at" /> {{ ladder.reason }}</p>
      <p v-if="ladder.used_by.length">Climbing by it: <template v-for="(leg, at) in ladder.used_by" :key="leg.app + leg.version + leg.place">{{ at ? ', ' : '' }}<RouterLink :to="`/apps/${leg.app}/releases/${leg.version}`">{{ leg.app }} {{ leg.version }}</RouterLink> at {{ leg.place }} ({{ percent(leg.share) }})</template></p>
      <div v-if="dropping !== ladder.name" class="row-gap"><BButton data-needs="arrange-desk" size="sm" variant="link" class="rest" @click="begin(ladder)">Change it</BButton><BButton data-needs="arrange-desk" v-if="!ladder.built_in" size="sm" variant="link" @click="((dropping = ladder.name), (why = ''))">{{ ladder.usual ? 'As it is built in' : 'Forget it' }}</BButton></div>
      <form v-else class="row-gap" @submit.prevent="drop(ladder.name)"><label class="row-gap">Why <input v-model="why" class="form-control form-control-sm" required maxlength="300" /></label><BButton data-needs="arrange-desk" type="submit" size="sm" variant="primary" :disabled="doing.busy.value">{{ ladder.usual ? 'As it is built in' : 'Forget it' }}</BButton><BButton size="sm" variant="link" @click="dropping = null">Cancel</BButton></form>
    </div>
  </section>
  <p v-if="!data && !problem" class="soft" role="status">Loading …</p>
</template>

<style scoped>
.block { display: grid; gap: 0.5rem; margin-bottom: 0.8rem; }
.block p { margin: 0; }
.ladder { display: grid; grid-template-columns: auto 1fr; gap: 1rem; margin-bottom: 0.8rem; }
.ladder .block { margin: 0; }
.fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(min(16rem, 100%), 1fr)); gap: 0.7rem 1rem; align-items: end; }
.rest { justify-self: start; padding-left: 0; }
</style>
