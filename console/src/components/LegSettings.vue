<script setup lang="ts">
import { ref } from 'vue'

import { api, type Build, type Leg, type Release, told } from '../api'
import { useDoing, useLoading } from '../loading'
import { LADDER_WRITTEN, LEG_PART_WAY, LIMITS } from '../states'
import { percent } from '../telling'
import ProblemNote from './ProblemNote.vue'

/** What may still be changed of a leg before its launch: its build, its ladder, what its launch waits for. */
const props = defineProps<{ release: Release; leg: Leg; builds: Build[] }>()
const emit = defineEmits<{ done: [] }>()

/** On its way up, only the stages that are still to come may be changed. */
const halfWay = LEG_PART_WAY.includes(props.leg.phase)
const build = ref(props.leg.build)
const written = props.leg.ladder_text.split(',')
const before = written.filter((_, at) => !halfWay || props.leg.ladder[at]!.share > props.leg.share).join(',')
const ladder = ref(before)
/** What is left as it is stays under its name. */
const changedLadder = () => (props.leg.ladder_dictated || ladder.value === before ? null : ladder.value)
const { data: named, load: loadNamed } = useLoading(() => told(api.GET('/v1/ladders')))
void loadNamed()
const needsGoAhead = ref(props.leg.needs_go_ahead)
const withOthers = ref(props.leg.with_other_legs)
const notBefore = ref(props.leg.not_before ? localInput(props.leg.not_before) : '')
const { busy, problem, run } = useDoing()

function localInput(instant: string): string {
  const moment = new Date(instant)
  return new Date(moment.getTime() - moment.getTimezoneOffset() * 60_000).toISOString().slice(0, 16)
}

async function save(): Promise<void> {
  const done = await run(() =>
    told(
      api.PATCH('/v1/apps/{app}/releases/{version}/legs/{store}', {
        params: { path: { app: props.release.app, version: props.release.version, store: props.leg.place }, header: { 'if-match': `"${props.release.revision}"` } },
        body: halfWay ? { ladder: changedLadder() } : {
          build: build.value === props.leg.build ? null : build.value,
          ladder: changedLadder(),
          needs_go_ahead: needsGoAhead.value,
          with_other_legs: withOthers.value,
          not_before: notBefore.value ? new Date(notBefore.value).toISOString() : null,
        },
      }),
    ),
  )
  if (done) emit('done')
}
</script>

<template>
  <form class="settings" @submit.prevent="save">
    <label v-if="!halfWay">Build
      <select v-model="build" class="form-select form-select-sm">
        <option v-for="known in builds" :key="known.id" :value="known.id">{{ known.label }} · {{ known.id }}</option>
      </select>
    </label>
    <label v-if="!leg.ladder_dictated">{{ halfWay ? `The stages above ${percent(leg.share)}` : 'Ladder' }} <span class="soft small-print">a named one, or {{ LADDER_WRITTEN }}</span>
      <input v-model="ladder" class="form-control form-control-sm" list="named-ladders" :maxlength="LIMITS.ladderText" required />
      <datalist id="named-ladders"><option v-for="one in named ?? []" :key="one.name" :value="one.name">{{ one.told }}</option></datalist>
    </label>
    <fieldset v-if="!halfWay">
      <legend>Launch when approved, and …</legend>
      <label class="check"><input v-model="needsGoAhead" type="checkbox" class="form-check-input" /> a person gives the go-ahead</label>
      <label v-if="release.legs.length > 1" class="check"><input v-model="withOthers" type="checkbox" class="form-check-input" /> the other stores have approved</label>
      <label class="check">not before <input v-model="notBefore" type="datetime-local" class="form-control form-control-sm" /></label>
    </fieldset>
    <ProblemNote :problem="problem" />
    <BButton type="submit" size="sm" variant="outline-primary" :disabled="busy">Save</BButton>
  </form>
</template>

<style scoped>
.settings { display: grid; gap: 0.6rem; justify-items: start; }
label { display: grid; gap: 0.2rem; font-size: 0.9rem; width: 100%; }
.check { display: flex; gap: 0.5rem; align-items: center; margin-top: 0.3rem; width: auto; }
legend { font-size: 0.9rem; margin: 0; }
</style>
